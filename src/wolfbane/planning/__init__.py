"""Turns a selection into a plan, and divides plans into shares."""
