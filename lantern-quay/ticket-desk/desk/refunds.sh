# Refunds: the last rule is wrong on purpose, and one depends on a clock that is read too early.
. ./tap.sh
refund() { sleep 0.05; is "$(($1 * $2 / 100))" "$3"; }
case_of "all of it a week before" refund 400 100 400
case_of "half of it the day before" refund 400 50 200
case_of "nothing after the sailing" refund 400 0 0
# The first attempt finds the clock still standing.
case_of "the clock at the desk runs" sh -c '[ "${KESMO_ATTEMPT:-1}" -gt 1 ] || { echo "the clock stands at 00:00"; exit 1; }'
case_of "a quarter on a stormy day" refund 400 20 100
done_with_cases
