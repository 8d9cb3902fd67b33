"""The actions behind the commands, independent of a terminal."""
