import os
import sys

sys.path.insert(0, os.getcwd())
from report import Report

report = Report("arrows")
for way in ("to the ferries", "to the ticket desk", "to the lighthouse"):
    report.case("arrows", f"points {way}", lambda: None)
report.write()
