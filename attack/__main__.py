"""bin/attack: every part of the campaign, one table, exit code 1 where anything is wrong."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable
from pathlib import Path

from attack import (
    calls,
    column_changes,
    connections,
    files,
    hostile,
    kills,
    memory,
    outages,
    pairs,
    readers,
    restores,
    small_bombs,
)
from attack.outcome import Outcome, table
from attack.target import Target

Part = Callable[[Target, float, int], Outcome | list[Outcome]]

PARTS: dict[str, tuple[float, Part]] = {
    "calls": (0.24, calls.attack),
    "hostile": (0.02, hostile.attack),
    "schedules": (0.02, small_bombs.schedules),
    "models": (0.03, small_bombs.models),
    "files": (0.05, files.attack),
    "readers": (0.04, readers.attack),
    "connections": (0.04, connections.attack),
    "changes": (0.03, column_changes.attack),
    "bombs": (0.06, small_bombs.jobs_memory),
    "encoders": (0.01, small_bombs.encoders),
    "pairs": (0.12, pairs.attack),
    "restores": (0.05, restores.attack),
    "outages": (0.12, outages.attack),
    "kills": (0.16, kills.attack),
}
"""Each part in its order, with its share of the time; the rest is for looking afterwards."""

UNDER_WATCH = ("calls", "hostile", "schedules", "models", "files", "connections")
"""Parts during which the serving process must stay the same, and its memory within a bound."""


def main() -> int:
    """Run it. Answers the exit code."""
    parser = argparse.ArgumentParser(prog="bin/attack", description=__doc__)
    parser.add_argument("--minutes", type=float, default=30.0, help="how long, once it is started (default 30)")
    parser.add_argument("--seed", type=int, default=1, help="what is drawn (default 1)")
    parser.add_argument("--only", choices=sorted(PARTS), action="append", help="these parts alone (may be repeated)")
    parser.add_argument("--short", action="store_true", help="leave out what starts other services")
    parser.add_argument(
        "--home", type=Path, help="a state folder to attack a copy of; its service must be stopped (default: a new one)"
    )
    options = parser.parse_args()
    names = [name for name in PARTS if not options.only or name in options.only]
    if options.short:
        names = [name for name in names if name not in ("restores", "outages", "bombs")]
    scale = options.minutes * 60 * (0.95 / sum(PARTS[name][0] for name in names))
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
            for name in (name for name in names if name in UNDER_WATCH):
                outcomes += run(name, target, scale, options.seed)
            outcomes.append(watch.outcome)
        for name in (name for name in names if name not in UNDER_WATCH):
            outcomes += run(name, target, scale, options.seed)
    finally:
        target.stop()
    print(table(outcomes))
    wrong = sum(each.wrong for each in outcomes)
    print(f"{wrong or 'nothing'} wrong, {time.monotonic() - begun:.0f} s")
    return 1 if wrong else 0


def run(name: str, target: Target, scale: float, seed: int) -> list[Outcome]:
    """Run one part for its share of the time."""
    share, attack = PARTS[name]
    say(f"{name}, {share * scale:.0f} s")
    try:
        outcome = attack(target, share * scale, seed)
    except Exception as error:
        # what others found must be told all the same
        broken = Outcome(f"{name}, which broke off")
        broken.report_progress("broke off", f"{type(error).__name__}: {error}")
        return [broken]
    return outcome if isinstance(outcome, list) else [outcome]


def say(text: str) -> None:
    """What is being done."""
    print(text, file=sys.stderr, flush=True)


if __name__ == "__main__":
    sys.exit(main())
