"""Formulas of dials: what a setting comes to as a dial stands, written in one line."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from functools import lru_cache

LONGEST = 200
_TOKEN = re.compile(r"\s*(?:(\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+)|([A-Za-z_]\w*)|(\*\*|[-+*/^(),]))")
Known = dict[str, float]
Compiled = Callable[[Known], float]


def _ratio(a: float, b: float) -> float:
    return a / b if b else 0.0


FUNCTIONS: dict[str, tuple[int, Callable[..., float]]] = {
    "min": (2, min),
    "max": (2, max),
    "abs": (1, abs),
    "sqrt": (1, lambda a: math.sqrt(max(a, 0.0))),
    "sin": (1, lambda a: math.sin(math.radians(a))),
    "cos": (1, lambda a: math.cos(math.radians(a))),
    "round": (1, lambda a: float(math.floor(a + 0.5))),
    "floor": (1, math.floor),
    "mix": (3, lambda a, b, t: a + (b - a) * t),
    "step": (2, lambda edge, a: 1.0 if a >= edge else 0.0),
}
"""Functions that a formula may call, and how many values each takes; angles in degrees."""
NAMES = {"x": "where the dial stands, 0 to 1", "value": "its value", "low": "the setting's low end", "high": "its high end"}
"""What a formula may speak of."""


class FormulaError(ValueError):
    """A formula cannot be read."""


_SIGNS: dict[str, Callable[[float, float], float]] = {
    "+": lambda a, b: a + b,
    "-": lambda a, b: a - b,
    "*": lambda a, b: a * b,
    "/": _ratio,
}


def _both(sign: str, left: Compiled, right: Compiled) -> Compiled:
    work = _SIGNS[sign]
    return lambda k: work(left(k), right(k))


def _words() -> str:
    return f"{', '.join(NAMES)}, numbers, + - * / ^, brackets, {', '.join(FUNCTIONS)}"


@lru_cache(maxsize=512)
def compiled(text: str) -> Compiled:
    """A formula made ready: precedence climbing (Richards 1979), no name or function beyond those that are listed here.

    >>> compiled("low + (high - low) * x^2")({"x": 0.5, "value": 0.5, "low": 10.0, "high": 30.0})
    15.0

    Raises
    ------
    FormulaError
    """
    if len(text) > LONGEST:
        raise FormulaError(f"a formula has {LONGEST} letters at most")
    tokens: list[str] = []
    at = 0
    while at < len(text.rstrip()):
        found = _TOKEN.match(text, at)
        if found is None:
            raise FormulaError(f"'{text[at:].strip()[:12]}' cannot be read in a formula; it knows {_words()}")
        tokens.append(next(g for g in found.groups() if g))
        at = found.end()
    if not tokens:
        raise FormulaError("the formula is empty")
    reader = _Reader(tokens)
    made = reader.sum()
    if reader.at < len(tokens):
        raise FormulaError(f"'{tokens[reader.at]}' stands where nothing more was expected")
    return made


class _Reader:
    def __init__(self, tokens: list[str]) -> None:
        self.tokens, self.at, self.deep = tokens, 0, 0

    def _next(self) -> str:
        return self.tokens[self.at] if self.at < len(self.tokens) else ""

    def _take(self, wanted: str = "") -> str:
        token = self._next()
        if wanted and token != wanted:
            raise FormulaError(f"'{wanted}' is missing{f' before {token!r}' if token else ' at the end'}")
        self.at += 1
        return token

    def sum(self) -> Compiled:
        left = self._product()
        while self._next() in ("+", "-"):
            left = _both(self._take(), left, self._product())
        return left

    def _product(self) -> Compiled:
        left = self._signed()
        while self._next() in ("*", "/"):
            left = _both(self._take(), left, self._signed())
        return left

    def _signed(self) -> Compiled:
        self.deep += 1
        if self.deep > 100:
            raise FormulaError("brackets are nested too deep")
        try:
            if self._next() in ("+", "-"):
                sign, inner = self._take(), self._signed()
                return inner if sign == "+" else lambda k: -inner(k)
            base = self._value()
            if self._next() in ("^", "**"):
                self._take()
                power = self._signed()
                return lambda k: _power(base(k), power(k))
            return base
        finally:
            self.deep -= 1

    def _value(self) -> Compiled:
        token = self._take()
        if token == "(":
            inner = self.sum()
            self._take(")")
            return inner
        if token in FUNCTIONS:
            count, function = FUNCTIONS[token]
            self._take("(")
            values = [self.sum()]
            while self._next() == ",":
                self._take()
                values.append(self.sum())
            self._take(")")
            if len(values) != count:
                raise FormulaError(f"{token} takes {count} values, not {len(values)}")
            return lambda k: float(function(*(v(k) for v in values)))
        if token in NAMES:
            return lambda k: k[token]
        try:
            number = float(token)
        except ValueError:
            raise FormulaError(f"'{token or 'the end'}' cannot stand here; a formula knows {_words()}") from None
        return lambda k: number


def _power(base: float, power: float) -> float:
    try:
        result = base**power if base >= 0 or power == int(power) else 0.0
        return float(result)
    except (OverflowError, ZeroDivisionError):
        return 0.0


def value_of(text: str, x: float, value: float, low: float, high: float) -> float:
    """What a formula comes to; nothing that is no number comes out of it.

    Raises
    ------
    FormulaError

    >>> value_of("low + (high - low) * x ^ 2", 0.5, 0.0, 10.0, 20.0)
    12.5
    """
    result = compiled(text)({"x": x, "value": value, "low": low, "high": high})
    return result if math.isfinite(result) else low
