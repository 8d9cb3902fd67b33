"""One package per kind of suite. The rest of Wolfbane gets them from ``kinds.registry``."""
