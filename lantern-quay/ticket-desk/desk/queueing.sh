. ./tap.sh
turn() { sleep 0.0"$1"; is "$1" "$1"; }
for place in 1 2 3 4 5 6 7 8 9; do case_of "place $place in the queue keeps its turn" turn $place; done
done_with_cases
