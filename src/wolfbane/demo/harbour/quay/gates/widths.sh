#!/bin/sh
# tags: smoke
# Every gate is wide enough for the widest ship that has a berth.
widest=12
narrow=$(awk -v widest="$widest" '$2 < widest { print $1 }' gates.txt)
if [ -n "$narrow" ]; then
    echo "narrower than $widest m: $narrow" >&2
    exit 1
fi
