"""A MaterialX document worked out over a sheet: nodes, graphs in graphs, definitions of its own."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.errors import FileError
from silent_loom.core.elsewhere.materialx import drawn  # noqa: F401 - its nodes join the others
from silent_loom.core.elsewhere.materialx.document import DEEPEST, Input, Node
from silent_loom.core.elsewhere.materialx.nodes import NODES, Asked
from silent_loom.core.elsewhere.materialx.spaces import known, linear
from silent_loom.core.elsewhere.materialx.values import WIDTHS, Value, parsed
from silent_loom.core.elsewhere.sampling import places
from silent_loom.core.files.beside import safe
from silent_loom.core.files.gltf_file import codes_of

SCENE = {
    "position": "the place in the scene",
    "normal": "the normal of the model",
    "tangent": "the tangent of the model",
    "bitangent": "the bitangent of the model",
    "viewdirection": "the direction of view",
    "facingratio": "the direction of view",
    "frame": "the frame",
    "time": "the time",
    "geompropvalue": "a property of the model",
    "geomcolor": "colours of the model",
}
"""Nodes that need a scene, and what of it."""
PASSED = ("dot", "tangentspace", "transformnormal", "transformvector", "transformpoint")


@dataclass
class Scope:
    """Where names are looked up: the nodes beside each other, and what is handed in from outside."""

    nodes: dict[str, Node]
    handed: dict[str, Callable[[], Any]] = field(default_factory=dict)
    words: dict[str, str] = field(default_factory=dict)
    depth: int = 0


class Sheet:
    """One document over one sheet.

    Parameters
    ----------
    root : Node
    folder : path
        Where its pictures lie.
    size : tuple of int
        Width and height in texels.
    """

    def __init__(self, root: Node, folder: Path, size: tuple[int, int]) -> None:
        self.root, self.folder, self.size = root, folder, size
        self.uv: Value = np.asarray(places(*size), np.float64)
        self.left: list[str] = []
        self._known: dict[tuple[int, str, str], Value] = {}
        self._working: set[tuple[int, str, str]] = set()
        self._pictures: dict[str, NDArray[np.float32] | None] = {}
        self._scopes: list[Scope] = []
        self.top = self._scope(Scope(root.nodes))

    def _scope(self, scope: Scope) -> Scope:
        self._scopes.append(scope)  # kept, so that its id stays its own
        return scope

    # --- inputs -------------------------------------------------------------------------------------------------------

    def value(self, scope: Scope, asked: Input) -> Value:
        """What an input comes to.

        Raises
        ------
        FileError
            It names what is not there, or itself.
        """
        if asked.interface:
            if asked.interface in scope.handed:
                return np.asarray(scope.handed[asked.interface]())
            if asked.value is None:
                raise FileError(f"nothing is called '{asked.interface}'", asked.name, "Correct the document.")
        if asked.graph:
            return self._graph_output(self._found(scope, asked.graph), asked.output, scope)
        if asked.node:
            node = scope.nodes.get(asked.node)
            if node is not None and node.category == "output":
                return self.value(scope, next(iter(node.inputs.values()), Input("", "")))
            return self.node(scope, self._found(scope, asked.node), asked.output)
        if asked.output:
            raise FileError(f"'{asked.name}' names an output of nothing", asked.output, "Correct the document.")
        self._met(asked.space)
        return parsed(asked.value or "", asked.kind, asked.space, asked.name)

    def _found(self, scope: Scope, name: str) -> Node:
        node = scope.nodes.get(name) or self.root.nodes.get(name)
        if node is None:
            raise FileError(f"there is no node called '{name[:60]}'", "the document", "Correct it.")
        return node

    def word(self, scope: Scope, asked: Input) -> str:
        """What an input says that is a word or a file."""
        if asked.interface and asked.interface in scope.words:
            return scope.words[asked.interface]
        return asked.value or ""

    # --- nodes --------------------------------------------------------------------------------------------------------

    def node(self, scope: Scope, node: Node, output: str = "") -> Value:
        """What a node comes to."""
        key = (id(scope), node.name, output)
        if key in self._known:
            return self._known[key]
        if key in self._working:
            raise FileError(f"'{node.name}' goes in a circle", "the document", "Take the circle out.")
        self._working.add(key)
        try:
            self._known[key] = self._worked(scope, node, output)
        finally:
            self._working.discard(key)
        return self._known[key]

    def _worked(self, scope: Scope, node: Node, output: str) -> Value:
        if node.category == "nodegraph":
            return self._graph_output(node, output, scope)
        kind = self._kind(node, output)
        width = WIDTHS.get(kind, 1)
        if node.category == "texcoord":
            return self.uv if width == 2 else np.concatenate([self.uv, np.zeros((*self.uv.shape[:2], 1))], axis=-1)
        if node.category in SCENE:
            self._note(f"{node.category} '{node.name}': it needs {SCENE[node.category]}")
            return np.zeros(width) if node.category not in ("normal",) else np.array([0.0, 0.0, 1.0])
        if node.category in PASSED and "in" in node.inputs:
            return self.value(scope, node.inputs["in"])
        own = self._definition(node, kind)
        if own is not None:
            return self._instance(scope, node, own, output)
        work = NODES.get(node.category)
        if work is None:
            self._note(f"{node.category} '{node.name}': this node is not known")
            first = node.inputs.get("in") or node.inputs.get("in1") or node.inputs.get("bg")
            return self.value(scope, first) if first is not None else np.zeros(width)
        return work(self._asked(scope, node, kind, width, output))

    def _kind(self, node: Node, output: str) -> str:
        if node.kind == "multioutput" and output in node.outputs:
            return node.outputs[output].kind
        return node.kind if node.kind != "multioutput" else "float"

    def _note(self, words: str) -> None:
        if words not in self.left:
            self.left.append(words)

    def _met(self, space: str) -> None:
        if not known(space):
            self._note(f"the colour space '{space[:60]}' is not known; its colours are taken as linear Rec. 709")

    def _asked(self, scope: Scope, node: Node, kind: str, width: int, output: str) -> Asked:
        def get(name: str, default: Any) -> Value:
            found = node.inputs.get(name)
            if found is None or (found.kind in ("string", "filename") and found.value is None and not found.interface):
                return np.atleast_1d(np.asarray(default, np.float64))
            return self.value(scope, found)

        def text(name: str, default: str) -> str:
            found = node.inputs.get(name)
            return default if found is None else self.word(scope, found) or default

        def picture() -> NDArray[np.float32] | None:
            file = node.inputs.get("file")
            named = "" if file is None else self.word(scope, file)
            space = "" if file is None else file.space or (node.space if kind.startswith("color") else "")
            return None if not named or file is None else self._read(named, kind, space)

        more = {"uv": self.uv, "width": width, "category": node.category, "picture": picture, "output": output}
        return Asked(kind, get, text, lambda name: name in node.inputs, more)

    def _read(self, file: str, kind: str, space: str) -> NDArray[np.float32] | None:
        key = f"{file} {kind} {space}"
        if key not in self._pictures:
            codes = codes_of(safe(self.folder, file, "the document"))
            width = WIDTHS.get(kind, 1)
            values = codes[..., :width].astype(np.float64)
            self._met(space if kind.startswith("color") else "")
            self._pictures[key] = np.ascontiguousarray(linear(values, space) if kind.startswith("color") else values, np.float32)
        return self._pictures[key]

    # --- graphs -------------------------------------------------------------------------------------------------------

    def _graph_output(self, graph: Node, output: str, outer: Scope) -> Value:
        named = graph.outputs.get(output) if output else next(iter(graph.outputs.values()), None)
        if named is None:
            raise FileError(f"the graph '{graph.name}' has no output '{output}'", "the document", "Correct it.")
        scope = self._opened(graph, outer)
        return self.value(scope, named)

    def _opened(self, graph: Node, outer: Scope) -> Scope:
        key = f"{id(outer)} {graph.name}"
        for opened in self._scopes:
            if opened.words.get("\0key") == key:
                return opened
        if outer.depth > DEEPEST:
            raise FileError(f"graphs lie in graphs more than {DEEPEST} deep", graph.name, "Flatten some of them.")
        scope = Scope(graph.nodes, depth=outer.depth + 1, words={"\0key": key})
        for name, told in graph.inputs.items():
            self._hand(scope, name, told, outer)
        return self._scope(scope)

    def _hand(self, scope: Scope, name: str, told: Input, outer: Scope) -> None:
        if told.kind in ("string", "filename"):
            scope.words[name] = self.word(outer, told)
        else:
            scope.handed[name] = lambda: self.value(outer, told)

    def _definition(self, node: Node, kind: str) -> tuple[Node, Node] | None:
        """A definition of the document's own for a node, and the graph behind it."""
        for told in self.root.nodes.values():
            if told.category != "nodedef" or told.attributes.get("node") != node.category:
                continue
            kinds = [o.kind for o in told.outputs.values()] or [told.kind]
            if kind not in kinds and node.kind != "multioutput":
                continue
            for other in self.root.nodes.values():
                if other.category == "nodegraph" and other.attributes.get("nodedef") == told.name:
                    return told, other
                if other.category == "implementation" and other.attributes.get("nodedef") == told.name:
                    graph = self.root.nodes.get(other.attributes.get("nodegraph", ""))
                    if graph is not None:
                        return told, graph
        return None

    def _instance(self, outer: Scope, node: Node, own: tuple[Node, Node], output: str) -> Value:
        told, graph = own
        if outer.depth > DEEPEST:
            raise FileError(f"'{node.name}' is made of itself", "the document", "Take the circle out.")
        scope = self._scope(Scope(graph.nodes, depth=outer.depth + 1))
        for name, default in told.inputs.items():
            if name in node.inputs:
                self._hand(scope, name, node.inputs[name], outer)
            elif default.value is not None:
                self._hand(scope, name, default, outer)
            elif default.kind == "vector2":
                scope.handed[name] = lambda: self.uv
        named = graph.outputs.get(output) or next(iter(graph.outputs.values()))
        return self.value(scope, named)
