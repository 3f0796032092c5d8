"""The tests that `make quick` leaves out: those that take two seconds and more, as a whole run wrote them down.

python -m pytest -n 2 --dist loadscope --junitxml=build/tests.xml
python -m tools.slow_tests build/tests.xml
"""

from __future__ import annotations

import sys
import xml.etree.ElementTree as ElementTree
from pathlib import Path

LIST = Path(__file__).parent.parent / "tests" / "slow_tests.txt"
SECONDS = 2.0


def slow(report: Path) -> list[str]:
    """Names of slow tests in a report in JUnit's form: module and test, without what tells its parameters apart."""
    cases = ElementTree.parse(report).iter("testcase")
    names = {f"{c.get('classname')}::{str(c.get('name')).split('[')[0]}" for c in cases if float(c.get("time", 0)) >= SECONDS}
    return sorted(n for n in names if not n.startswith("tests.browser."))


def main(report: str) -> None:
    names = slow(Path(report))
    LIST.write_text("\n".join(names) + "\n", "utf-8")
    print(f"{len(names)} slow tests in {LIST.name}")


if __name__ == "__main__":
    main(sys.argv[1])
