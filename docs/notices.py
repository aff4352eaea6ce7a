"""Write NOTICE: what Gleaner is installed and built with, and under which licences. `python docs/notices.py`

Python packages are those of `requirements/run.txt`, those of the console what `console/package-lock.json` puts into the
built files.
"""

from __future__ import annotations

import json
import re
from importlib.metadata import PackageNotFoundError, metadata
from pathlib import Path

ROOT = Path(__file__).parents[1]
NOTICE = ROOT / "NOTICE"
HEAD = """\
Gleaner
Licensed under the Apache License, Version 2.0; see LICENSE.

It is installed with the Python packages below and served with a console built from the npm packages below. Each comes
under its own licence; its text is in the package.
"""


def python_packages() -> dict[str, str]:
    """Return the licence of each pinned Python package, by name and version."""
    pinned = re.findall(r"^([\w.-]+)==([^\s;\\]+)", (ROOT / "requirements/run.txt").read_text(), re.M)
    return {f"{name} {version}": _python_licence(name) for name, version in pinned}


def _python_licence(name: str) -> str:
    try:
        about = metadata(name)
    except PackageNotFoundError:
        return "see the package"
    if expression := about.get("License-Expression"):
        return expression
    classified = [text.rpartition(" :: ")[2] for text in about.get_all("Classifier") or [] if "License ::" in text]
    first_line = (about.get("License") or "").strip().split("\n")[0]
    return "; ".join(classified) or first_line[:80] or "see the package"


def console_packages() -> dict[str, str]:
    """Return the licence of each npm package that goes into the console, by name and version."""
    packages = json.loads((ROOT / "console/package-lock.json").read_text())["packages"]
    return {
        f"{path.rpartition('node_modules/')[2]} {about['version']}": about.get("license", "see the package")
        for path, about in packages.items()
        if path and not about.get("dev") and not about.get("optional") and not about.get("devOptional")
    }


def notice() -> str:
    """Return the text of the file."""
    parts = [HEAD]
    for title, packages in (("Python packages", python_packages()), ("Packages of the console", console_packages())):
        lines = [f"  {name}: {licence}" for name, licence in sorted(packages.items())]
        parts.append("\n".join([title, "", *lines, ""]))
    return "\n".join(parts)


if __name__ == "__main__":
    NOTICE.write_text(notice())
