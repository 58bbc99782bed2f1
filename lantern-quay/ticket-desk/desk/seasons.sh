# Seasons: subtests within a file.
echo "TAP version 14"
echo "# Subtest: summer"
for month in june july august; do n=$((${n:-0} + 1)); echo "    ok $n - $month has six sailings"; sleep 0.1; done
echo "    1..3"
echo "ok 1 - summer"
echo "# Subtest: winter"
echo "    ok 1 - december has two sailings"
echo "    ok 2 - january has one # SKIP the ice is on the fjord"
echo "    1..2"
echo "ok 2 - winter"
echo "1..2"
