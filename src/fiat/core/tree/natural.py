"""A tree in the order that people expect: what is in a directory after it, names as :func:`natural_order` has them."""

import re
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from fiat.core.tree.distinct import each_once
from fiat.core.tree.survey import Survey

_NUMBERS = re.compile(r"([0-9]+)")
_TOGETHER = 20_000
"""Names that are compared together, at least."""

_SEEN = 32
"""Bytes of a name that are looked at first; mostly two neighbours differ in these."""


Sorter = Callable[[NDArray[np.int64], NDArray[np.int64]], tuple[bool, list[int]]]
"""Sorts in place the entries between each two of the bounds, each time those of one directory; whether that changed
anything, and the numbers of those that it left as they were."""


def natural_places(survey: Survey, sorter: Sorter | None = None) -> NDArray[np.int64]:
    """Every place but that of the top, in this order; ``sorter`` may sort what it can sort faster."""
    children = np.argsort(survey.parent, kind="stable")[1:]  # each directory's together, names sorted by their bytes
    parent = survey.parent[children]
    bounds = np.flatnonzero(np.diff(parent, prepend=-1, append=-1))
    if not (_sort_each(survey, children, bounds) if sorter is None else _sort_with(sorter, survey, children, bounds)):
        return np.arange(1, len(survey))
    size = survey.end[children] - children
    before = np.cumsum(size) - size  # of everything that stands before in the list
    counts = np.diff(bounds)
    offset = before - np.repeat(before[bounds[:-1]], counts)  # of what stands before in the directory
    group = np.full(len(survey), -1, np.int64)
    group[parent[bounds[:-1]]] = np.arange(len(counts))
    place = np.zeros(len(survey), np.int64)
    for level in survey.levels():
        groups = group[level]
        groups = groups[groups >= 0]
        inside = np.concatenate([np.arange(bounds[one], bounds[one + 1]) for one in groups.tolist()] or [bounds[:0]])
        place[children[inside]] = place[parent[inside]] + 1 + offset[inside]
    found = np.empty(len(survey), np.int64)
    found[place] = np.arange(len(survey))
    return found[1:]


def _sort_with(sorter: Sorter, survey: Survey, children: NDArray[np.int64], bounds: NDArray[np.intp]) -> bool:
    """Sort the entries of each directory, what the ``sorter`` leaves one by one; False if all are sorted."""
    changed, left = sorter(children, bounds)
    for directory in left:
        changed |= _sort_one(survey, children[int(bounds[directory]) : int(bounds[directory + 1])])
    return changed


def _sort_one(survey: Survey, entries: NDArray[np.int64]) -> bool:
    """Sort the entries of one directory; False if they are."""
    names = survey.names(entries)
    order = sorted(range(len(entries)), key=list(zip(_keys(names), names, strict=True)).__getitem__)
    entries[:] = entries[order]
    return order != sorted(order)


def _sort_each(survey: Survey, children: NDArray[np.int64], bounds: NDArray[np.intp]) -> bool:
    """Sort the entries of each directory, which stand from one of ``bounds`` to the next; False if all are sorted."""
    changed = False
    first = 0
    while first < len(bounds) - 1:
        last = max(int(np.searchsorted(bounds, bounds[first] + _TOGETHER)), first + 1)
        last = min(last, len(bounds) - 1)
        begin, end = int(bounds[first]), int(bounds[last])
        doubtful = np.flatnonzero(~_in_order(survey.first_bytes(children[begin:end], _SEEN))) + begin + 1
        doubtful = doubtful[~np.isin(doubtful, bounds)]  # what begins another directory comes in any order
        for directory in each_once(np.searchsorted(bounds, doubtful, side="right")):
            changed |= _sort_one(survey, children[int(bounds[directory - 1]) : int(bounds[directory])])
        first = last
    return changed


def _in_order(names: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """For each but the last whether it surely comes before the next; names are sorted by their bytes, and end with 0.

    That is so where one ends before the other goes on, where they first differ
    in characters that are no digits and stand for themselves, or in
    numbers of as many digits.
    """
    one, other = names[:-1], names[1:]
    row = np.arange(len(one))
    at = (one != other).argmax(axis=1)
    left, right = one[row, at], other[row, at]
    sure: NDArray[np.bool_] = (_PLAIN[left] & _PLAIN[right] & (left != right)) | ((left == 0) & (right != 0))
    in_numbers = np.flatnonzero(_DIGIT[left] & _DIGIT[right] & (left != right))
    ends = [_number_ends(some[in_numbers], at[in_numbers]) for some in (one, other)]
    sure[in_numbers] = (ends[0] == ends[1]) & (ends[0] < names.shape[1])
    return sure


def _number_ends(names: NDArray[np.uint8], at: NDArray[np.intp]) -> NDArray[np.intp]:
    """For each name where the number ends that is at this place."""
    after = ~_DIGIT[names] & (np.arange(names.shape[1]) >= at[:, None])
    found: NDArray[np.intp] = np.where(after.any(axis=1), after.argmax(axis=1), names.shape[1])
    return found


def _each_byte(text: bytes) -> NDArray[np.bool_]:
    found = np.zeros(256, np.bool_)
    found[list(text)] = True
    return found


_DIGIT = _each_byte(b"0123456789")
_PLAIN = _each_byte(bytes(code for code in range(1, 128) if not (chr(code).isdecimal() or chr(code).isupper())))


def _keys(names: list[str]) -> list[str]:
    """Texts that are sorted as the first part of the keys of :func:`natural_order` is.

    A number stands before any other character, by its digits and then by
    its value; no name holds a slash, so that all are made at once.
    """
    parts = _NUMBERS.split("/".join(names).casefold())
    parts[1::2] = map(_number, parts[1::2])
    return "".join(parts).split("/")


def _number(digits: str) -> str:
    stripped = digits.lstrip("0")
    return f"\0{chr(0x100 + len(stripped))}{stripped}"
