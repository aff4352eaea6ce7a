"""What was odd about lists made elsewhere, in sentences: one wording for the command line, the console and the API."""

from __future__ import annotations

from gleaner.core.data.foreign_lists import ListOddities
from gleaner.wire.lists import ListFindings

COUNTED = {
    "users_without_list": ("user of the test part has", "users of the test part have"),
    "users_not_counted": ("user of the file is", "users of the file are"),
    "unknown_items": ("item is", "items are"),
    "known_rows": ("row shows", "rows show"),
    "repeats": ("row repeats", "rows repeat"),
    "uneven_places": ("list has", "lists have"),
    "short_lists": ("list is", "lists are"),
}
"""How one and several of a finding are worded, in the order in which findings are listed."""
SCORED = {
    "users_without_list": "no list: scoring nothing",
    "users_not_counted": "unknown or without a relevant item: not scored",
    "unknown_items": "unknown to training, in {rows}: holding a place and missing",
    "known_rows": "what the user has in training",
    "repeats": "an item of the list: dropped, what follows moves up",
    "uneven_places": "gaps or repeats in the places: numbered afresh",
    "short_lists": "shorter than the largest cut-off: empty places miss",
}
ANALYSED = SCORED | {
    "users_without_list": "no list: left out",
    "users_not_counted": "unknown to training or without a relevant item: left out",
    "unknown_items": "unknown to training, in {rows}: such places are left empty",
    "known_rows": "what the user has in training: analysed as the others",
    "short_lists": "shorter than the places looked at: those are left empty",
}
DROPPED = ": taken out, what follows moves up"
KEPT = ": holding a place and missing, where drop_known would take them out"


def scored(oddities: ListOddities, kind: str, *, known_dropped: bool) -> ListFindings:
    """Findings of lists that were scored. kind: format of the file."""
    words = SCORED | {"known_rows": SCORED["known_rows"] + (DROPPED if known_dropped else KEPT)}
    return ListFindings(format=kind, known_dropped=known_dropped, said=_sentences(oddities, words), **vars(oddities))


def analysed(oddities: ListOddities, kind: str) -> ListFindings:
    """Findings of lists that were analysed. kind: format of the file."""
    return ListFindings(format=kind, known_dropped=False, said=_sentences(oddities, ANALYSED), **vars(oddities))


def _sentences(oddities: ListOddities, words: dict[str, str]) -> list[str]:
    """A sentence for each finding that there is, with the first of those it is about."""
    rows = oddities.unknown_item_rows
    in_rows = f"{rows:,} row{'' if rows == 1 else 's'}"
    lines = []
    for name, (one, many) in COUNTED.items():
        n = getattr(oddities, name)
        if not n:
            continue
        few = oddities.examples.get(name, [])
        such = f" ({', '.join(few)}{', ...' if n > len(few) else ''})" if few else ""
        lines.append(f"{n:,} {one if n == 1 else many} {words[name].format(rows=in_rows)}{such}")
    return lines
