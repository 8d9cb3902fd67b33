"""Kind ``node``: files for the test module of Node.js."""
