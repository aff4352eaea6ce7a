"""A contest file of every metric of lists."""

from __future__ import annotations

from gleaner.core.metrics.catalogue import METRICS

AT = [5, 10]
RANKED = [name for name, metric in METRICS.items() if metric.sort not in ("values", "likelihood")]
EVERY = f"""\
contest: every-metric
data: seeds@1
prepare: {{kinds: {{view: 1, save: 3, request: 5}}, min_user: 5, min_item: 5}}
rank:
  at: {AT}
  metrics: [{", ".join(RANKED)}]
  decide_by: ndcg@10
  content: [family, traits]
  categories: family
contenders: [popular, random, item_knn, {{als: {{rank: 16, iterations: 8}}}}]
"""
