#!/bin/sh
# The quay's log is kept for three days.
keep=3
days=$(printf '%s\n' 2031-05-01 2031-05-02 2031-05-03 2031-05-04 | tail -n "$keep")

echo "1..3"
[ "$(echo "$days" | wc -l)" -eq 3 ] && echo "ok 1 - three days are kept" || echo "not ok 1 - three days are kept"
[ "$(echo "$days" | head -n 1)" = 2031-05-02 ] && echo "ok 2 - the oldest is gone" || echo "not ok 2 - the oldest is gone"
echo "ok 3 - logs are packed # SKIP no packer on the quay's machine"
