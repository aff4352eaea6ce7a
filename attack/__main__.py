"""bin/attack: every part of the campaign, one table, exit code 1 where anything is wrong."""

from __future__ import annotations

import argparse
import sys
import time
from pathlib import Path

from attack import calls, files, hostile, kills, memory
from attack.outcome import Outcome, table
from attack.target import Target

SHARES = {"calls": 0.5, "files": 0.05, "hostile": 0.02, "kills": 0.37}
"""Of the time; the rest is for looking afterwards."""


def main() -> int:
    """Run it. Answers the exit code."""
    parser = argparse.ArgumentParser(prog="bin/attack", description=__doc__)
    parser.add_argument("--minutes", type=float, default=30.0, help="how long, once it is started (default 30)")
    parser.add_argument("--seed", type=int, default=1, help="what is drawn (default 1)")
    parser.add_argument("--only", choices=sorted(SHARES), help="one part alone")
    parser.add_argument(
        "--home", type=Path, help="a state folder to attack a copy of; its service must be stopped (default: a new one)"
    )
    options = parser.parse_args()
    shares = {name: share for name, share in SHARES.items() if options.only in (None, name)}
    total = options.minutes * 60 * (1 if options.only is None else 0.9 / sum(shares.values()))
    outcomes = list[Outcome]()
    try:
        target = Target(options.home)
    except ValueError as problem:
        parser.error(f"--home: {problem}")
    begun = time.monotonic()
    try:
        say(f"starting a service to attack in {target.home}")
        target.start()
        target.fill()
        with memory.Watch(target) as watch:
            for name, part in (("calls", calls.attack), ("hostile", hostile.attack), ("files", files.attack)):
                if name in shares:
                    say(f"{name}, {shares[name] * total:.0f} s")
                    outcomes.append(part(target, shares[name] * total, options.seed))
            outcomes.append(watch.outcome)
        if "kills" in shares:
            say(f"kills, {shares['kills'] * total:.0f} s")
            outcomes += kills.attack(target, shares["kills"] * total, options.seed)
    finally:
        target.stop()
    print(table(outcomes))
    wrong = sum(each.wrong for each in outcomes)
    print(f"{wrong or 'nothing'} wrong, {time.monotonic() - begun:.0f} s")
    return 1 if wrong else 0


def say(text: str) -> None:
    """What is being done."""
    print(text, file=sys.stderr, flush=True)


if __name__ == "__main__":
    sys.exit(main())
