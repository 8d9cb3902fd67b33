"""Kind ``workflow``: Arazzo documents that call an API."""
