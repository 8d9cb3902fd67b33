#!/bin/sh
# The gates open one after the other, from the sea inwards.
awk '{ print $3 }' gates.txt | sort -c
