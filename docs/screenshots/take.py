"""Take the pictures in this folder from a fresh demo. Needs Chromium, and xvfb, xterm and imagemagick for terminals.
Those of the guide to the console are taken by its test: GLEANER_TEST_PICTURES=docs/screenshots pytest
tests/console/test_newcomer.py

GLEANER_HOME=$(mktemp -d) bin/demo      # in one terminal
.venv/bin/python docs/screenshots/take.py      # in another
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from random import Random
from urllib.parse import quote

from playwright.sync_api import Page, sync_playwright

from gleaner.client import Client, calls

FOLDER = Path(__file__).parent
BINS = Path(sys.executable).parent
URL = os.environ.get("GLEANER_URL", "http://127.0.0.1:8642")
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
SQL = """SELECT i.family, count(*) AS requests, count(DISTINCT x.user) AS growers
FROM interactions x JOIN items i ON i.id = x.item
WHERE x.kind = 'request'
GROUP BY i.family ORDER BY requests DESC"""
PAGES = {
    "data": "/data/seeds@1",
    "data-sql": f"/data/seeds@1?view=sql&sql={quote(SQL)}",
    "contest": "/contests/first-look@1",
    "models": "/models/first-look.als@1?view=explain&user=g-0417&item=v-0010",
    "model-factors": "/models/first-look.als@1?view=factors&colour=family",
    "shelf": "/shelves/guide-surplus?user=g-0417",
    "taste": "/taste/for-growers?pick=v-0612&pick=v-0784&said.v-0784=3",
    "live": "/live/seeds",
    "jobs": "/jobs",
}
TERMINALS = {
    "terminal-contest": "gleaner contest show first-look",
    "terminal-model": "gleaner model explain first-look.als --user g-0417 --item v-0010 -n 8",
    "terminal-shelf": "gleaner shelf check guide-surplus.yaml && gleaner shelf try guide-surplus --user g-0417",
}
SIX = re.search(r"# file: six.yaml\n(.*?)```", (FOLDER.parent / "guides" / "compare.md").read_text(), re.S)
LONG = "contest: longer\ndata: seeds@1\ncontenders: [{als: {rank: 64, iterations: 1000}}]\n"
SURPLUS = re.search(r"# file: guide-surplus.yaml\n(.*?)```", (FOLDER.parent / "guides" / "serve.md").read_text(), re.S)
WORK = Path(tempfile.mkdtemp())
DISPLAY = ":97"
MOST_S, DRAWN_S = 180, 1.5


def shelf() -> None:
    """The guide's shelf with slots, on the demo's own models."""
    assert SURPLUS
    file = WORK / "guide-surplus.yaml"
    file.write_text(SURPLUS.group(1).replace("guide-contest", "first-look"))
    subprocess.run([BINS / "gleaner", "shelf", "publish", file, "--url", URL], check=True, stdout=subprocess.DEVNULL)


def traffic() -> None:
    """Growers who look at lists and touch what they see, the first places more, for the live page."""
    random = Random(4)  # noqa: S311 - no secret
    with Client(URL) as client:
        for turn in range(900):
            user = f"g-{random.randrange(1, 1400):04d}" if random.random() < 0.85 else f"guest-{random.randrange(60)}"
            answer = client.send(calls.recommend("for-growers", user=user, n=10))
            touched = [place.item for at, place in enumerate(answer.list) if random.random() < 0.3 / (at + 1)]
            kind = random.choices(["view", "save", "request"], [6, 3, 2])[0]
            for item in touched:
                client.send(calls.send_event("seeds", user, item, kind, list_id=answer.list_id))
            time.sleep(0.6 if turn % 10 == 0 else 0.0)


def pages() -> None:
    """The console's pages; the one of jobs with a contest running."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme="light")
        for name, path in PAGES.items():
            if name == "jobs":
                # one that runs, so that its curves grow
                path = f"/jobs/{page.request.post(f'{URL}/v1/contests', data={'file': LONG}).json()['job']}"
            page.goto(URL + path)
            if name == "model-factors":
                page.get_by_role("heading", name="Items on the two leading factors").scroll_into_view_if_needed()
                page.mouse.wheel(0, 600)
            page.wait_for_timeout(2500 if name == "jobs" else 1200)
            page.screenshot(path=FOLDER / f"{name}.png")
        tuned(page)
        browser.close()


def tuned(page: Page) -> None:
    """The guide's contest of six tuned models: what was tried, and the report's first page."""
    assert SIX
    file = WORK / "six.yaml"
    file.write_text(SIX.group(1))
    subprocess.run([BINS / "gleaner", "contest", "run", file, "--url", URL], check=True, stdout=subprocess.DEVNULL)
    page.goto(f"{URL}/contests/six-models@1?tuned=als")
    heading = page.get_by_role("heading", name=re.compile("^Tuning of als"))
    heading.wait_for()
    page.wait_for_timeout(1500)
    heading.evaluate("element => element.scrollIntoView()")
    page.wait_for_timeout(1200)
    page.screenshot(path=FOLDER / "contest-tuning.png")
    page.goto(f"{URL}/v1/contests/six-models@1/report")
    page.screenshot(path=FOLDER / "report.png")


def terminal(name: str, command: str) -> None:
    """A command and what it printed, in a terminal window, once it has ended and is drawn."""
    ended = Path(tempfile.mkdtemp()) / "ended"
    script = f"echo '$ {command}'; {command}; printf '$ '; touch {ended}; sleep 600"
    fonts = ["-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#fffdf7", "-fg", "#2b2721", "-geometry", "140x46+0+0"]
    environment = os.environ | {"DISPLAY": DISPLAY, "PATH": f"{BINS}:{os.environ['PATH']}", "GLEANER_URL": URL}
    window = subprocess.Popen(
        ["xterm", *fonts, "-e", "bash", "-c", script], env=environment, cwd=None if "bin/" in command else WORK
    )
    end = time.monotonic() + MOST_S
    while not ended.exists() and time.monotonic() < end:
        time.sleep(0.2)
    time.sleep(DRAWN_S)
    subprocess.run(["import", "-window", "root", FOLDER / f"{name}.png"], env=environment, check=True)
    window.terminate()
    window.wait()


def terminals() -> None:
    """Commands in a terminal, and the demo itself in a state folder of its own."""
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL)
    time.sleep(1)
    try:
        for name, command in TERMINALS.items():
            terminal(name, command)
        with tempfile.TemporaryDirectory() as home:
            Path(home).chmod(0o755)
            os.environ["GLEANER_HOME"] = home
            terminal("terminal-demo", "bin/demo --once --port 8699")
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    shelf()
    traffic()
    pages()
    terminals()
