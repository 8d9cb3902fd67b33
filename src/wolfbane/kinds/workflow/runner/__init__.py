"""The worker of kind ``workflow``: it runs Arazzo workflows itself, in Wolfbane's own runtime."""
