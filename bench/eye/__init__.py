"""What an eye sees of 200 crops, and how often the measures agree with it.

* ``script/bench eye make`` treats pictures that nothing was fitted on and keeps the crops in
  ``.state/eye``;
* ``script/bench eye sheets PASS`` draws them for judging: original and result side by side, which is which
  and in which order by lot, among them pairs that are the same;
* ``script/bench eye record PASS`` reads what was written down from ``.state/eye/pass-PASS.txt`` (a figure a
  pair, sheet by sheet) into ``bench/eye/judgements.csv``;
* ``script/bench eye`` says how often score, worst place and the measures of what is seen agree with it.
"""

from __future__ import annotations

import sys

from . import agreement, crops, sheets

__all__ = ["main"]


def main() -> None:
    match sys.argv[1:]:
        case ["make"]:
            crops.make()
        case ["sheets", number]:
            sheets.draw(int(number))
        case ["record", number]:
            sheets.record(int(number))
        case _:
            agreement.say()
