"""Finds candidates among many hashes, by bits that they share.

Half a million pictures take some 500 MB, and a question some milliseconds.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from .perceptual import THUMBNAIL, PerceptualHash

U32 = NDArray[np.uint32]

#: A feature's 64 bits make so many keys of so many bits; two features with one key in common are a vote.
_TABLES, _KEY_BITS = 3, 21
#: So many features of each picture are in the index, the strongest.
_INDEXED = 40
#: Keys that more places have than this say nothing.
_COMMON = 2_000
#: Pictures with fewer features than this are found as wholes, too: by which of 16 parts are bright.
_FEW = 24
_PARTS = 4
#: Parts that are nearly neither are taken both ways, at most so many.
_NEAR, _MOST_NEAR = 4.0, 4


class Index:
    """Of pictures by number. It is built once, from all."""

    def __init__(self, pictures: Iterable[tuple[int, PerceptualHash]]) -> None:
        numbers: list[int] = []
        keys: list[list[U32]] = [[] for _ in range(_TABLES + 1)]
        owners: list[list[U32]] = [[] for _ in range(_TABLES + 1)]
        for number, picture in pictures:
            place = np.uint32(len(numbers))
            numbers.append(number)
            for table, own in enumerate((*_feature_keys(picture), _whole_key(picture))):
                keys[table].append(own)
                owners[table].append(np.full(len(own), place))
        self._numbers = np.array(numbers, np.int64)
        self._tables = [_sorted(key, owner) for key, owner in zip(keys, owners, strict=True)]

    def candidates(self, picture: PerceptualHash, most: int = 40) -> list[int]:
        """The numbers of those that have most in common with a picture, best first; itself among them if it
        is in the index."""
        asked = [*_feature_keys(picture), np.array(sorted(set(_whole_keys(picture))), np.uint32)]
        places, weights = list[U32](), list[NDArray[np.float64]]()
        for (keys, owners), own in zip(self._tables, asked, strict=True):
            begin, end = np.searchsorted(keys, own, "left"), np.searchsorted(keys, own, "right")
            for first, last in zip(begin, end, strict=True):
                if 0 < last - first <= _COMMON:
                    places.append(owners[first:last])
                    weights.append(np.full(last - first, 1 / (1 + np.log2(last - first))))
        if not places:
            return []
        found, which = np.unique(np.concatenate(places), return_inverse=True)
        votes = np.bincount(which, np.concatenate(weights))
        best = np.argsort(-votes, kind="stable")[:most]
        return [int(number) for number in self._numbers[found[best]]]


def _sorted(keys: list[U32], owners: list[U32]) -> tuple[U32, U32]:
    if not keys:
        return np.zeros(0, np.uint32), np.zeros(0, np.uint32)
    joined, owner = np.concatenate(keys), np.concatenate(owners)
    order = np.argsort(joined, kind="stable")
    return joined[order], owner[order]


def _feature_keys(picture: PerceptualHash) -> list[U32]:
    """For each table the keys of the strongest features."""
    bits = picture.features["bits"][:_INDEXED]
    mask = np.uint64((1 << _KEY_BITS) - 1)
    return [
        np.unique((bits >> np.uint64(table * _KEY_BITS)) & mask).astype(np.uint32) for table in range(_TABLES)
    ]


def _whole_key(picture: PerceptualHash) -> U32:
    """The key of a whole picture that has few features, as it stands; none of one that has many."""
    if len(picture.features) >= _FEW:
        return np.zeros(0, np.uint32)
    return np.array([next(_keys(picture.thumbnail))], np.uint32)


def _whole_keys(picture: PerceptualHash) -> Iterator[int]:
    """The keys that another of the same might have, turned by quarters or not."""
    if len(picture.features) < _FEW:
        for quarters in range(4):
            yield from _keys(np.rot90(picture.thumbnail, quarters))


def _keys(thumbnail: NDArray[np.uint8]) -> Iterator[int]:
    """The key of a thumbnail, then those that it nearly has."""
    step = THUMBNAIL // _PARTS
    parts = thumbnail.reshape(_PARTS, step, _PARTS, step).mean((1, 3)).ravel()
    over = parts - parts.mean()
    key = sum(1 << place for place in range(parts.size) if over[place] > 0)
    near = [int(place) for place in np.argsort(np.abs(over))[:_MOST_NEAR] if abs(over[place]) < _NEAR]
    for count in range(len(near) + 1):
        for places in combinations(near, count):
            yield key ^ sum(1 << place for place in places)
