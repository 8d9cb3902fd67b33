#!/bin/sh
# The winter gate is checked while it hangs.
if ! grep -q '^winter ' gates.txt; then
    echo "the winter gate is in its shed"
    exit 77
fi
