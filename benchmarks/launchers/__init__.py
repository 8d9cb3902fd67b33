"""Launchers that are drawn at random, and the verdicts of their tests compared with the draw."""
