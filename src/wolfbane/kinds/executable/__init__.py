"""Common code of the kinds whose tests are executable files."""
