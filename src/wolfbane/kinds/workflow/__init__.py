"""Kind ``workflow``: Arazzo documents that drive an API."""
