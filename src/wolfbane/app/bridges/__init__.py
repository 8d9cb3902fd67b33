"""Learns and checks bridges by running their launchers."""
