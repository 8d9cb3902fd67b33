"""One package for each kind of suite. The rest of Wolfbane asks ``kinds.registry`` for them."""
