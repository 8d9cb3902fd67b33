"""What runs leave behind: a journal each, and the newest outcome of every test."""
