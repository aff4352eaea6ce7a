"""A factorisation machine in plain loops: scores pair by pair, and a stretch of its gradient steps."""

import math

import numpy as np

from reference.models import mixed

SIDES = ("users", "items", "user_columns", "item_columns", "context")


class Machine:
    """tables: for each of SIDES vectors and a last column of weights, float64, and `squares` likewise. amounts: dense
    (n_rows, n_features) of user_columns and of item_columns. codes: of every cell, -1 for none. second: whether two
    features of one side have a product too. masks: for each of SIDES (n_rows, width - 1)."""

    def __init__(self, tables, amounts, codes, second, user_weights, masks):
        self.tables = {side: np.array(table, dtype=float) for side, table in tables.items()}
        self.squares = {side: np.ones_like(table) for side, table in self.tables.items()}
        self.amounts, self.codes, self.second, self.user_weights, self.masks = (
            amounts,
            codes,
            second,
            user_weights,
            masks,
        )
        self.moves = {side: np.zeros_like(table) for side, table in self.tables.items()}
        self.touches = {side: np.zeros(len(table)) for side, table in self.tables.items()}

    def features(self, user, item, cell):
        """(side, row, amount) of all that are not zero."""
        found = [("users", user, 1.0), ("items", item, 1.0)]
        for side, row in (("user_columns", user), ("item_columns", item)):
            found += [(side, f, self.amounts[side][row, f]) for f in np.flatnonzero(self.amounts[side][row])]
        return found + [("context", code, 1.0) for code in self.codes[cell] if code >= 0]

    def meet(self, one, other):
        """Whether the product of two features counts."""
        return one != other and (self.second or ("item" in one[0]) != ("item" in other[0]))

    def weighs(self, side):
        return "item" in side or self.user_weights

    def score(self, user, item, cell):
        found, total = self.features(user, item, cell), 0.0
        for place, one in enumerate(found):
            if self.weighs(one[0]):
                total += one[2] * self.tables[one[0]][one[1], -1]
            for other in found[:place]:
                if self.meet(one, other):
                    total += one[2] * other[2] * self.vector(one) @ self.vector(other)
        return total

    def vector(self, feature):
        return self.tables[feature[0]][feature[1], :-1]

    def slopes(self, user, item, cell):
        """{(side, row): slope of the score}."""
        found = self.features(user, item, cell)
        slopes = {}
        for one in found:
            others = [other[2] * self.vector(other) for other in found if self.meet(one, other)]
            vector = one[2] * (np.sum(others, axis=0) if others else np.zeros(self.tables["users"].shape[1] - 1))
            slopes[one[:2]] = np.append(vector, one[2] * self.weighs(one[0]))
        return slopes

    def step(self, pulls, rate, penalty):
        """pulls: [(pull, slopes)]. Ids move at once, columns when the stretch is over; a penalty for each of the items
        and one for what they share."""
        whole = {}
        for pull, slopes in pulls:
            for feature, slope in slopes.items():
                whole[feature] = whole.get(feature, 0) + pull * slope
        items = [feature for _, slopes in pulls for feature in slopes if "item" in feature[0]]
        times = {feature: max(1, items.count(feature)) for feature in whole}
        for (side, row), pull in whole.items():
            if side in ("users", "items"):
                self.move(side, row, pull, penalty, rate)
            else:
                self.moves[side][row] += pull
                self.touches[side][row] += times[side, row]

    def move(self, side, row, pull, penalty, rate):
        g = np.append(self.masks[side][row], 1) * (penalty * self.tables[side][row] - pull)
        self.squares[side][row] += g * g
        self.tables[side][row] -= rate * g / np.sqrt(self.squares[side][row])

    def end_stretch(self, penalty, rate):
        for side in ("user_columns", "item_columns", "context"):
            for row in np.flatnonzero(self.touches[side]):
                self.move(side, row, self.moves[side][row], self.touches[side][row] * penalty, rate)


def epoch(machine, histories, values, seed, loss, rate, penalty, margin, trials, base=0.0):
    """Steps over all cells, user by user, every item in one block, in one stretch. Answers the sum of the losses."""
    n_items, total, cell = len(machine.tables["items"]), 0.0, -1
    for u, history in enumerate(histories):
        state = (seed * 0xBF58476D1CE4E5B9 + u * 0x9E3779B97F4A7C15) % 2**64
        for i in history:
            cell += 1
            score = base + machine.score(u, i, cell)
            if loss == "squared":
                total += (values[cell] - score) ** 2
                machine.step([(values[cell] - score, machine.slopes(u, i, cell))], rate, penalty)
                continue
            if loss == "logistic":
                total += math.log(1 + math.exp(-score))
                machine.step([(1 / (1 + math.exp(score)), machine.slopes(u, i, cell))], rate, penalty)
            for drawn in range(1, trials + 1):
                for _ in range(20):
                    state, number = mixed(state)
                    j = (number * n_items) >> 31
                    if j not in history:
                        break
                else:
                    break
                other = base + machine.score(u, j, cell)
                if loss == "logistic":
                    total += math.log(1 + math.exp(other))
                    machine.step([(-1 / (1 + math.exp(-other)), machine.slopes(u, j, cell))], rate, penalty)
                    continue
                if loss == "bpr":
                    weight = 1 / (1 + math.exp(score - other))
                    total += math.log(1 + math.exp(other - score))
                elif margin - score + other > 0:
                    weight = math.log(1 + (n_items - 1) // drawn)
                    total += weight * (margin - score + other)
                else:
                    continue
                lift = [(weight, machine.slopes(u, i, cell)), (-weight, machine.slopes(u, j, cell))]
                machine.step(lift, rate, penalty)
                break
    machine.end_stretch(penalty, rate)
    return total
