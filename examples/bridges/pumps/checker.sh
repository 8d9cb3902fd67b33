# A launcher of the harbour's own: each line of a file names a pump, its limit and its pressure.
count=0 bad=0
while read -r pump limit pressure; do
  case $pump in ''|'#'*) continue ;; esac
  count=$((count + 1))
  if [ "$pressure" -le "$limit" ]; then
    echo "ok $count - $pump stays below $limit bar"
  else
    echo "not ok $count - $pump stays below $limit bar"
    echo "# it came to $pressure bar"
    bad=1
  fi
done < "$1"
echo "1..$count"
exit $bad
