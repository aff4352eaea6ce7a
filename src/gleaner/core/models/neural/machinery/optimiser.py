"""Gradient steps: Adam (Kingma, Ba 2015), and for tables of which a batch touches few rows its lazy form, which moves
those rows alone, and their moments.

The steps are written out here: the library's own optimisers load its compiler first, which takes longer than most fits.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from gleaner.core.models.base.protocol import Arrays

FADE, FADE_SQUARES, SMALLEST = 0.9, 0.999, 1e-8
"""beta_1, beta_2 and epsilon of the paper."""


class Optimiser:
    """Steps on weights, which are torch tensors over the same memory as the arrays given. A gradient
    that holds the rows of a batch only moves these."""

    def __init__(self, torch: Any, arrays: Arrays, rate: float) -> None:
        self._torch = torch
        self.arrays, self.rate = arrays, rate
        self.tensors = {name: self._torch.from_numpy(array).requires_grad_() for name, array in arrays.items()}
        self._means = {name: self._torch.zeros_like(tensor) for name, tensor in self.tensors.items()}
        self._squares = {name: self._torch.zeros_like(tensor) for name, tensor in self.tensors.items()}
        self._steps = 0

    def step(self, loss: Any) -> None:
        """One step down the gradient of a loss."""
        names = list(self.tensors)
        tensors = [self.tensors[name] for name in names]
        gradients = self._torch.autograd.grad(loss, tensors, allow_unused=True)
        self.step_by({name: each for name, each in zip(names, gradients, strict=True) if each is not None})

    def step_by(self, gradients: dict[str, Any]) -> None:
        """One step down gradients, of the weights that have one."""
        self._steps += 1
        bias, bias_of_squares = 1 - FADE**self._steps, 1 - FADE_SQUARES**self._steps
        with self._torch.no_grad():
            for name, gradient in gradients.items():
                parts = self.tensors[name], self._means[name], self._squares[name]
                if gradient.is_sparse:
                    self._move_rows(gradient.coalesce(), *parts, bias, bias_of_squares)
                else:
                    mean = parts[1].mul_(FADE).add_(gradient, alpha=1 - FADE)
                    square = parts[2].mul_(FADE_SQUARES).addcmul_(gradient, gradient, value=1 - FADE_SQUARES)
                    length = square.sqrt().div_(bias_of_squares**0.5).add_(SMALLEST)
                    parts[0].addcdiv_(mean, length, value=-self.rate / bias)

    def _move_rows(self, gradient: Any, table: Any, means: Any, squares: Any, bias: float, of_squares: float) -> None:
        rows, values = gradient.indices()[0], gradient.values()
        mean = means[rows].mul_(FADE).add_(values, alpha=1 - FADE)
        square = squares[rows].mul_(FADE_SQUARES).addcmul_(values, values, value=1 - FADE_SQUARES)
        means.index_copy_(0, rows, mean)
        squares.index_copy_(0, rows, square)
        length = square.sqrt_().div_(of_squares**0.5).add_(SMALLEST)
        table.index_add_(0, rows, mean.div_(length), alpha=-self.rate / bias)

    def state(self) -> Arrays:
        """What a later process needs to go on from here: weights, the moments of each, and how many steps it took."""
        kept = {"steps": np.array([self._steps], np.int64)}
        for name, array in self.arrays.items():
            kept |= {f"weight/{name}": array, f"mean/{name}": self._means[name].numpy()}
            kept[f"square/{name}"] = self._squares[name].numpy()
        return kept

    def load_state(self, kept: Arrays) -> None:
        """Go on from what `state` answered."""
        self._steps = int(kept["steps"][0])
        for name, array in self.arrays.items():
            array[...] = kept[f"weight/{name}"]
            self._means[name].numpy()[...] = kept[f"mean/{name}"]
            self._squares[name].numpy()[...] = kept[f"square/{name}"]
