"""The text of an OBJ read in one go: numbers of its tables, corners of its faces, and where all other lines begin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from silent_loom.core.base.kernels import kernel, subkernel

V, VT, VN, F, OTHER = 0, 1, 2, 3, 4
LINES = 5
COLUMNS = 7
"""Numbers of a line that are kept: a place has 3, with a weight 4, with a colour 6, with both 7."""


@dataclass(frozen=True)
class Text:
    """What stands in an OBJ.

    Attributes
    ----------
    tables : three float64 arrays, shape (N, 7)
        Places, UVs and normals; not a number where a line has fewer.
    sides : int array, shape (F,)
        How many corners each face has.
    corners : int array, shape (C, 3)
        Place, UV and normal of each corner as they stand, from 1 or backwards; 0 where none is said.
    counts : int array, shape (F, 3)
        How many places, UVs and normals stood before each face.
    others : int array, shape (L, 2)
        First and last byte of lines of any other kind, and …
    before : int array, shape (L,)
        … how many faces stood before them.
    wrong : int
        Number of the first line that cannot be read, from 1; 0 where all can.
    """

    tables: tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]
    sides: NDArray[np.int64]
    corners: NDArray[np.int64]
    counts: NDArray[np.int64]
    others: NDArray[np.int64]
    before: NDArray[np.int64]
    wrong: int


def joined(body: bytes) -> bytes:
    """A text whose lines end where what they say ends: a backslash at the end of one goes on in the next.

    >>> joined(b"f 1 2 \\\\\\n3")
    b'f 1 2  3'
    """
    return body.replace(b"\\\r\n", b" ").replace(b"\\\n", b" ") if b"\\" in body else body


def read_text(body: bytes, most_faces: int) -> Text:
    """Everything that an OBJ says; lines that go on in the next one are joined already (see `joined`).

    Raises
    ------
    OverflowError
        It has more faces than that.

    >>> t = read_text(b"v 0 0 0\\nv 1.5 0 -2e1\\nv 0 1 0\\nf 1 2 3\\n", 10)
    >>> t.tables[0][1, :3].tolist(), t.corners[:, 0].tolist(), t.wrong
    ([1.5, 0.0, -20.0], [1, 2, 3], 0)
    """
    text = np.frombuffer(body, np.uint8)
    counted = np.zeros(LINES + 1, np.int64)
    _count(text, counted)
    if counted[F] > most_faces or counted[LINES] > 8 * most_faces:
        raise OverflowError
    v, vt, vn = (np.full((int(counted[k]), COLUMNS), np.nan) for k in (V, VT, VN))
    sides, counts = np.zeros(int(counted[F]), np.int64), np.zeros((int(counted[F]), 3), np.int64)
    corners = np.zeros((int(counted[LINES]), 3), np.int64)
    others, before = np.zeros((int(counted[OTHER]), 2), np.int64), np.zeros(int(counted[OTHER]), np.int64)
    wrong = np.zeros(1, np.int64)
    _fill(text, v, vt, vn, sides, corners, counts, others, before, wrong)
    return Text((v, vt, vn), sides, corners, counts, others, before, int(wrong[0]))


@subkernel
def _is_blank(c):  # type: ignore[no-untyped-def]
    return c == 32 or c == 9 or c == 13


@subkernel
def _line_kind(text, at, end):  # type: ignore[no-untyped-def]
    """What a line says, and where what it says begins."""
    while at < end and _is_blank(text[at]):
        at += 1
    if at >= end or text[at] == 35:
        return -1, at
    if at + 1 < end and text[at] == 118:  # v
        if _is_blank(text[at + 1]):
            return V, at + 1
        if at + 2 < end and _is_blank(text[at + 2]):
            if text[at + 1] == 116:
                return VT, at + 2
            if text[at + 1] == 110:
                return VN, at + 2
    if at + 1 < end and text[at] == 102 and _is_blank(text[at + 1]):  # f
        return F, at + 1
    return OTHER, at


@subkernel
def _line_end(text, at):  # type: ignore[no-untyped-def]
    while at < len(text) and text[at] != 10:
        at += 1
    return at


@kernel("Array(u1, 1, 'C', readonly=True), i8[::1]")
def _count(text, counted):  # type: ignore[no-untyped-def]
    at = 0
    while at < len(text):
        end = _line_end(text, at)
        kind, place = _line_kind(text, at, end)
        if kind >= 0:
            counted[kind] += 1
        if kind == F:
            inside = False
            while place < end and text[place] != 35:
                blank = _is_blank(text[place])
                if not blank and not inside:
                    counted[LINES] += 1
                inside = not blank
                place += 1
        at = end + 1


@subkernel
def _whole(text, at, end):  # type: ignore[no-untyped-def]
    """A whole number, where it ends, and whether it is one."""
    sign = 1
    if at < end and (text[at] == 45 or text[at] == 43):
        sign = -1 if text[at] == 45 else 1
        at += 1
    value, first = 0, at
    while at < end and 48 <= text[at] <= 57:
        if value < 1000000000000:
            value = value * 10 + (text[at] - 48)
        at += 1
    return sign * value, at, at > first


@subkernel
def _number(text, at, end):  # type: ignore[no-untyped-def]
    """A number, where it ends, and whether it is one. Nineteen digits are read exactly, then scaled once."""
    sign = 1.0
    if at < end and (text[at] == 45 or text[at] == 43):
        sign = -1.0 if text[at] == 45 else 1.0
        at += 1
    digits, scale, first, seen = 0, 0, at, 0
    while at < end and 48 <= text[at] <= 57:
        if digits < 100000000000000000:
            digits = digits * 10 + (text[at] - 48)
        else:
            scale += 1
        at += 1
        seen += 1
    if at < end and text[at] == 46:
        at += 1
        while at < end and 48 <= text[at] <= 57:
            if digits < 100000000000000000:
                digits = digits * 10 + (text[at] - 48)
                scale -= 1
            at += 1
            seen += 1
    if seen == 0:
        word = at == first and at + 2 < end  # nan and inf, as some programs write them
        if word and (text[at] | 32) == 110 and (text[at + 1] | 32) == 97 and (text[at + 2] | 32) == 110:
            while at < end and not _is_blank(text[at]):
                at += 1
            return np.nan, at, True
        if word and (text[at] | 32) == 105 and (text[at + 1] | 32) == 110 and (text[at + 2] | 32) == 102:
            while at < end and not _is_blank(text[at]):
                at += 1
            return np.inf, at, True
        return 0.0, at, False
    if at < end and (text[at] | 32) == 101:
        power, after, good = _whole(text, at + 1, end)
        if not good:
            return 0.0, at, False
        scale += power
        at = after
    value = float(digits)
    if scale > 0:
        value *= 10.0 ** min(scale, 400)
    elif scale < -300:
        value = 0.0
    elif scale < 0:
        value /= 10.0 ** (-scale)
    return sign * value, at, True


@subkernel
def _row(text, at, end, out):  # type: ignore[no-untyped-def]
    """Numbers of a line; whether it holds nothing else."""
    n = 0
    while True:
        while at < end and _is_blank(text[at]):
            at += 1
        if at >= end or text[at] == 35:
            return n > 0
        value, at, good = _number(text, at, end)
        if not good or (at < end and not _is_blank(text[at]) and text[at] != 35):
            return False
        if n < COLUMNS:
            out[n] = value
        n += 1


_BYTES = "Array(u1, 1, 'C', readonly=True)"


@kernel(f"{_BYTES}, f8[:,::1], f8[:,::1], f8[:,::1], i8[::1], i8[:,::1], i8[:,::1], i8[:,::1], i8[::1], i8[::1]")
def _fill(text, v, vt, vn, sides, corners, counts, others, before, wrong):  # type: ignore[no-untyped-def]
    at = line = nv = nt = nn = nf = nc = no = 0
    while at < len(text):
        end = _line_end(text, at)
        line += 1
        kind, place = _line_kind(text, at, end)
        good = True
        if kind == V:
            good = _row(text, place, end, v[nv])
            nv += 1
        elif kind == VT:
            good = _row(text, place, end, vt[nt])
            nt += 1
        elif kind == VN:
            good = _row(text, place, end, vn[nn])
            nn += 1
        elif kind == F:
            counts[nf, 0], counts[nf, 1], counts[nf, 2] = nv, nt, nn
            while good:
                while place < end and _is_blank(text[place]):
                    place += 1
                if place >= end or text[place] == 35:
                    break
                for k in range(3):
                    if place < end and text[place] != 47:
                        value, place, good = _whole(text, place, end)
                        good = good and value != 0
                        corners[nc, k] = value
                    if not good or place >= end or text[place] != 47:
                        break
                    place += 1
                good = good and corners[nc, 0] != 0 and (place >= end or _is_blank(text[place]) or text[place] == 35)
                nc += 1
                sides[nf] += 1
            nf += 1
        elif kind == OTHER:
            others[no, 0], others[no, 1] = place, end
            before[no] = nf
            no += 1
        if not good:
            wrong[0] = line
            return
        at = end + 1
