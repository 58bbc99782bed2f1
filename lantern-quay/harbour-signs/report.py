"""What the harbour's scripts share: cases in nested suites, written as JUnit XML when a script ends."""

import os
import sys
import time
from xml.sax.saxutils import quoteattr


class Report:
    def __init__(self, name):
        self.name = name
        self.suites = {}

    def case(self, suite, name, check):
        began = time.time()
        why = check()
        self.suites.setdefault(suite, []).append((name, time.time() - began, why))

    def write(self):
        os.makedirs("out", exist_ok=True)
        with open(f"out/{os.path.basename(self.name)}.xml", "w") as file:
            file.write(f"<testsuites name={quoteattr(self.name)}><testsuite name={quoteattr(self.name)}>\n")
            for suite, cases in self.suites.items():
                file.write(f"  <testsuite name={quoteattr(suite)}>\n")
                for name, took, why in cases:
                    file.write(f"    <testcase classname={quoteattr(suite)} name={quoteattr(name)} time=\"{took:.3f}\">")
                    if why:
                        file.write(f"<failure message={quoteattr(why)}/>")
                    file.write("</testcase>\n")
                file.write("  </testsuite>\n")
            file.write("</testsuite></testsuites>\n")
        sys.exit(1 if any(why for cases in self.suites.values() for _, _, why in cases) else 0)
