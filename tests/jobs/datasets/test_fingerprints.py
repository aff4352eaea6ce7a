"""Repeated rows found in bounded memory, against counting in a dictionary."""

from collections import Counter

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from gleaner.jobs.datasets.fingerprints import Fingerprints

# few values, spread over the whole range, so that many repeat and every share gets some
HASHES = st.lists(st.integers(0, 40).map(lambda n: n * 449_844_806_478_891_000), max_size=200)


@given(HASHES, st.integers(1, 60), st.integers(1, 30))
def test_repeats_and_their_places(tmp_path_factory, hashes, at_once, batch):
    prints = Fingerprints(tmp_path_factory.mktemp("prints") / "rows", at_once)
    for begin in range(0, len(hashes), batch):
        prints.add(np.array(hashes[begin : begin + batch], np.uint64))
    prints.close()
    again, places = prints.repeats(examples=3)
    counts = Counter(hashes)
    assert again == sum(n - 1 for n in counts.values())
    wanted = sorted(each for each, n in counts.items() if n > 1)[:3]
    assert places.tolist() == [at for at, each in enumerate(hashes) if each in wanted][:6]
