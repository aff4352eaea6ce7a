"""Proposals of a search, hopeless attempts, and the effects of its parameters."""

from __future__ import annotations

import json
import warnings
from typing import Any

import numpy as np
import optuna
from optuna.distributions import BaseDistribution, CategoricalDistribution, FloatDistribution, IntDistribution
from optuna.pruners import MedianPruner
from optuna.samplers import TPESampler
from optuna.trial import FrozenTrial, Trial, TrialState, create_trial
from scipy.stats import qmc

from gleaner.core.tuning.attempts import Method, TunedTrial
from gleaner.core.tuning.importance import Effect, main_effects
from gleaner.core.tuning.space import Between, Range, Space

FIRST_SHARE = 0.25
"""Of a Bayesian search: attempts spread evenly before it learns from them."""
DRAWS = 20
"""How often a setting that was tried before is drawn again."""
BEFORE_PRUNING = 4
"""Attempts that end before any is compared with them."""


class Search:
    """A search within a space. `sign`: 1 where more of the deciding metric is better, -1 where less is.

    What is proposed depends on the seed and the attempts so far only, so a search that is taken up again after a crash
    goes on as it would have. Bayesian: tree-structured Parzen estimator (Bergstra et al. 2011). Quasi-random:
    scrambled Sobol points. Pruning: below the median of earlier attempts at the same iteration.
    """

    def __init__(self, space: Space, method: Method, attempts: int, seed: int, sign: int) -> None:
        optuna.logging.set_verbosity(optuna.logging.ERROR)
        self.space, self.method, self.attempts, self.seed = space, method, attempts, seed
        # a pruner is asked about steps, so the first one is not waited for
        pruner = MedianPruner(n_startup_trials=BEFORE_PRUNING, n_warmup_steps=0)
        self._study = optuna.create_study(direction="maximize" if sign > 0 else "minimize", pruner=pruner)
        self._distributions = {name: _distribution(each) for name, each in space.ranges.items()}
        self._grid: list[dict[str, Any]] | None = None
        self._trial: Trial | None = None
        self._tried: set[str] = set()

    def add(self, attempt: TunedTrial) -> None:
        """Take an attempt of before into account."""
        self._tried.add(_key(attempt.chosen))
        states = {"done": TrialState.COMPLETE, "pruned": TrialState.PRUNED, "failed": TrialState.FAIL}
        self._study.add_trial(
            create_trial(
                state=states[attempt.state],
                params=self._settings_of(attempt.chosen),
                distributions=dict(self._distributions),
                value=attempt.value if attempt.state != "failed" else None,
                intermediate_values=attempt.curve,
            )
        )

    def propose(self) -> dict[str, Any] | None:
        """The next setting, none that was tried before; None where all were, or the attempts are used up."""
        number = len(self._tried)
        if number >= min(self.attempts, self.space.size):
            return None
        chosen = self._chosen(number)
        if chosen is None:
            return None
        self._study.enqueue_trial(self._settings_of(chosen))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            self._trial = self._study.ask(self._distributions)
        return chosen

    def hopeless(self, iteration: int, value: float) -> bool:
        """Whether the attempt proposed last lies below what earlier ones had at this iteration."""
        assert self._trial is not None
        self._trial.report(value, iteration)
        return self._trial.should_prune()

    def report_progress(self, attempt: TunedTrial) -> None:
        """End the attempt proposed last."""
        assert self._trial is not None
        self._tried.add(_key(attempt.chosen))
        if attempt.state == "failed" or attempt.value is None:
            self._study.tell(self._trial, state=TrialState.FAIL)
        elif attempt.state == "pruned":
            self._study.tell(self._trial, state=TrialState.PRUNED)
        else:
            self._study.tell(self._trial, attempt.value)

    def effects(self) -> dict[str, Effect]:
        """Return how much of the metric's variance each parameter explains; nothing for too few attempts."""
        done = [trial for trial in self._study.trials if trial.state == TrialState.COMPLETE]
        values = np.array([trial.value for trial in done], dtype=np.float64)
        return main_effects([self._read(trial.params) for trial in done], values, self.space.ranges, self.seed)

    def _chosen(self, number: int) -> dict[str, Any] | None:
        if self.method != "grid":
            for draw in range(DRAWS):
                chosen = self._drawn(number, draw)
                if _key(chosen) not in self._tried:
                    return chosen
        # all of a grid, or the rest of a small space in which drawing finds nothing new
        return next((each for each in self._shuffled() if _key(each) not in self._tried), None)

    def _drawn(self, number: int, draw: int) -> dict[str, Any]:
        evenly = self.method == "quasi_random" or number < max(2, round(FIRST_SHARE * self.attempts))
        if self.method == "random":
            random = np.random.default_rng([self.seed, number, draw])
            return self.space.at(random.random(len(self.space.ranges)))
        if evenly:
            sobol = qmc.Sobol(len(self.space.ranges), scramble=True, rng=np.random.default_rng(self.seed))
            skip = number + draw * self.attempts
            return self.space.at((sobol.fast_forward(skip) if skip else sobol).random(1)[0])
        seed = int(np.random.default_rng([self.seed, number, draw]).integers(2**31))
        sampler = TPESampler(n_startup_trials=0, seed=seed)
        trial = FrozenTrial(number, TrialState.RUNNING, None, None, None, {}, {}, {}, {}, {}, number)
        drawn = {
            name: sampler.sample_independent(self._study, trial, name, each)
            for name, each in self._distributions.items()
        }
        return self._read(drawn)

    def _shuffled(self) -> list[dict[str, Any]]:
        if self._grid is None:
            grid = self.space.grid()
            order = np.random.default_rng(self.seed).permutation(len(grid))
            self._grid = [grid[place] for place in order]
        return self._grid

    def _settings_of(self, chosen: dict[str, Any]) -> dict[str, Any]:
        """A setting in the words of the distributions: choices by their place."""
        settings = {}
        for name, each in self.space.ranges.items():
            settings[name] = chosen[name] if isinstance(each, Between) else each.values.index(chosen[name])
        return settings

    def _read(self, read: dict[str, Any]) -> dict[str, Any]:
        return {
            name: each.tidy(read[name]) if isinstance(each, Between) else each.values[read[name]]
            for name, each in self.space.ranges.items()
        }


def _distribution(each: Range) -> BaseDistribution:
    if not isinstance(each, Between):
        return CategoricalDistribution(range(len(each.values)))
    # in steps, the last one may fall short of the end
    high = each.points[-1] if each.step and each.points else each.high
    if each.whole:
        return IntDistribution(round(each.low), round(high), log=each.log, step=round(each.step or 1))
    return FloatDistribution(each.low, high, log=each.log, step=each.step)


def _key(chosen: dict[str, Any]) -> str:
    return json.dumps(chosen, sort_keys=True)
