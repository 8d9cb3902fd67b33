"""The sample workspace: Saltmarsh Harbour."""

from wolfbane.demo.copy import copy_harbour

__all__ = ["copy_harbour"]
