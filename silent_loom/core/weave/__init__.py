"""Threads, steps, and how a weave is evaluated."""

from silent_loom.core.weave.answers.cache import Cache
from silent_loom.core.weave.answers.evaluate import Evaluator
from silent_loom.core.weave.answers.plan import Plan
from silent_loom.core.weave.decision import Decision, InMemory
from silent_loom.core.weave.rows.model import SourceRef, StepEntry, Weave
from silent_loom.core.weave.rows.recipes import starting_weave
from silent_loom.core.weave.step import CarryStep, Geometry, MapStep, Sheet, Sources, Step

__all__ = [
    "Cache",
    "CarryStep",
    "Decision",
    "Evaluator",
    "Geometry",
    "InMemory",
    "MapStep",
    "Plan",
    "Sheet",
    "SourceRef",
    "Sources",
    "Step",
    "StepEntry",
    "Weave",
    "starting_weave",
]
