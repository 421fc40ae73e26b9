"""``python -m plumcrate.demo``: the whole demonstration, started and stopped with one command."""

from __future__ import annotations

import argparse
import sys

from .start import Demo, DemoError


def main() -> int:
    parser = argparse.ArgumentParser(prog="script/demo", description="Starts the demonstration.")
    action = parser.add_mutually_exclusive_group()
    action.add_argument("--stop", action="store_true", help="stop a demonstration that runs")
    action.add_argument("--reset", action="store_true", help="stop it and delete its library and records")
    action.add_argument("--paint", action="store_true", help="paint its library, and start nothing")
    parser.add_argument("--detach", action="store_true", help="return when everything is up")
    options = parser.parse_args()
    demo = Demo()
    try:
        if options.stop or options.reset:
            demo.stop()
            if options.reset:
                demo.reset()
            return 0
        if options.paint:
            demo.paint()
            return 0
        return demo.start(detach=options.detach)
    except DemoError as error:
        print(f"script/demo: {error}", file=sys.stderr)
        return 1


if __name__ == "__main__":
    sys.exit(main())
