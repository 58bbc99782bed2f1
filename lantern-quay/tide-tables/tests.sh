# The tests of the tide tables, in a plain shell: they run in an image that has little more.
names="tides/bow/high_water tides/bow/low_water tides/stern/high_water tides/stern/low_water tides/office/knows_no_other_berth tides/office/answers_the_crew_at_once"
if [ "$1" = --names ]; then
    printf '%s\n' $names
    exit
fi
# asked WHAT: what the office answers, if it knows.
asked() {
    answer=$(printf 'GET /%s HTTP/1.0\r\n\r\n' "$1" | nc -w 10 "${KESMO_REACH_TIDES%:*}" "${KESMO_REACH_TIDES#*:}")
    case $answer in
        HTTP/*\ 200\ *) printf '%s\n' "$answer" | tail -n 1 ;;
        *) return 1 ;;
    esac
}
for name in "$@"; do
    case $name in
        tides/office/knows_no_other_berth) ! asked nowhere/high >/dev/null 2>&1 ;;
        tides/office/answers_the_crew_at_once)
            for i in 1 2 3 4 5 6 7 8; do asked bow/high >"/tmp/$i" & done
            wait
            [ "$(cat /tmp/[1-8] | grep -c cm)" = 8 ]
            ;;
        tides/*/high_water) berth=${name#tides/}; asked "${berth%%/*}/high" | grep -q '^[0-9]* cm$' ;;
        tides/*/low_water)
            berth=${name#tides/} berth=${berth%%/*}
            high=$(asked "$berth/high") low=$(asked "$berth/low")
            [ "${low% cm}" -lt "${high% cm}" ] || { echo "# low water is $low, high water $high"; false; }
            ;;
    esac && echo "ok - $name" || echo "not ok - $name"
done
