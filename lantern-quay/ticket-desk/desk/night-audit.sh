# The night's accounts: one till after the other, and counting takes its time.
. ./tap.sh
counted() { sleep 0.5; is "$1" "$2"; }
case_of "the till at berth one adds up" counted $((12 * 140 + 3 * 70)) 1890
case_of "the till at berth two adds up" counted $((31 * 140)) 4340
case_of "the till on the Ebb adds up" counted $((8 * 90 + 44)) 764
case_of "the till on the Lantern adds up" counted $((19 * 140 + 7 * 70)) 3150
case_of "season tickets are counted once" counted $((48 - 6)) 42
case_of "refunds are taken off" counted $((4340 - 280)) 4060
case_of "the float stays in the drawer" counted $((5000 - 0)) 5000
case_of "the night's sum is written down" counted $((1890 + 4060 + 764 + 3150)) 9864
done_with_cases
