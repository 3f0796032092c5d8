"""A MaterialX document as elements, graphs and definitions."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from dataclasses import dataclass, field
from pathlib import Path

from silent_loom.core.base.errors import FileError

MOST_BYTES = 32 << 20
MOST_ELEMENTS = 200_000
DEEPEST = 24
"""Documents that include documents, and graphs in graphs."""


@dataclass
class Input:
    """An input of a node: a value, or where it comes from."""

    name: str
    kind: str
    value: str | None = None
    node: str = ""
    graph: str = ""
    output: str = ""
    interface: str = ""
    space: str = ""


@dataclass
class Node:
    """A node, a graph or a definition; ``space`` is the colour space around it."""

    category: str
    name: str
    kind: str
    inputs: dict[str, Input] = field(default_factory=dict)
    outputs: dict[str, Input] = field(default_factory=dict)
    nodes: dict[str, Node] = field(default_factory=dict)
    attributes: dict[str, str] = field(default_factory=dict)
    space: str = ""


def opened(path: Path) -> Node:
    """A document with everything that it includes.

    Raises
    ------
    FileError
        It is no MaterialX, includes what lies elsewhere, or is endless.
    """
    root = Node("materialx", "", "", space="lin_rec709")
    _into(root, path, path.parent, 0)
    return root


def _into(root: Node, path: Path, folder: Path, depth: int) -> None:
    from silent_loom.core.files.beside import safe

    if depth > DEEPEST:
        raise FileError("documents include each other without end", path.name, "Take the circle out.")
    try:
        body = path.read_bytes() if path.stat().st_size <= MOST_BYTES else b""
    except OSError as error:
        raise FileError(f"it cannot be read ({error.strerror})", path.name, "Check the path.") from None
    if b"<!DOCTYPE" in body or b"<!ENTITY" in body:
        raise FileError("it declares entities, which are not read", path.name, "Save it without.")
    try:
        tree = ET.fromstring(body)
    except ET.ParseError as error:
        raise FileError(f"it is no XML ({error})", path.name, "Export it again as MaterialX.") from None
    if tree.tag != "materialx":
        raise FileError("this is no MaterialX document", path.name, "Export it again as MaterialX.")
    version = tree.get("version", "1.38")
    if not version.startswith(("1.38", "1.39")):
        raise FileError(f"this is MaterialX {version[:10]}", path.name, "Bring it up to 1.38 or 1.39.")
    if sum(1 for _ in tree.iter()) > MOST_ELEMENTS:
        raise FileError(f"it has more than {MOST_ELEMENTS} elements", path.name, "Take a part of it out.")
    space = tree.get("colorspace", root.space)
    for element in tree:
        if element.tag.endswith("include"):
            _into(root, safe(folder, element.get("href", ""), path.name), folder, depth + 1)
            continue
        if element.tag == "input":
            continue
        node = _node(element, space, tree.get("fileprefix", ""), 0)
        root.nodes[node.name] = node
    root.space = space


def _node(element: ET.Element, space: str, prefix: str, depth: int) -> Node:
    if depth > DEEPEST:
        raise FileError(f"graphs lie in graphs more than {DEEPEST} deep", element.get("name", "")[:80], "Flatten some of them.")
    space = element.get("colorspace", space)
    prefix = element.get("fileprefix", prefix)
    node = Node(element.tag, element.get("name", ""), element.get("type", ""), attributes=dict(element.attrib), space=space)
    for child in element:
        if child.tag in ("input", "parameter", "token"):
            found = _input(child, space, prefix)
            node.inputs[found.name] = found
        elif child.tag == "output":
            found = _input(child, space, prefix)
            node.outputs[found.name] = found
        else:
            inner = _node(child, space, prefix, depth + 1)
            node.nodes[inner.name] = inner
    return node


def _input(element: ET.Element, space: str, prefix: str) -> Input:
    kind, value = element.get("type", ""), element.get("value")
    if kind == "filename" and value and prefix:
        value = prefix + value
    return Input(
        element.get("name", ""),
        kind,
        value,
        element.get("nodename", ""),
        element.get("nodegraph", ""),
        element.get("output", ""),
        element.get("interfacename", ""),
        element.get("colorspace", space if kind.startswith("color") else ""),
    )
