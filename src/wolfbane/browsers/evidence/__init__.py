"""The evidence of a browser test: records, snapshots, a log of its commands."""
