import os
import sys
import time

sys.path.insert(0, os.getcwd())
from report import Report

report = Report("lights")
for colour, side in (("green", "starboard"), ("red", "port")):
    for quay in range(1, 9):
        def lit(quay=quay, side=side):
            time.sleep(0.02)
            return "the lamp is out" if (quay, side) == (6, "port") else None

        report.case(f"{side} lights", f"quay {quay} shows {colour}", lit)
report.write()
