"""Packing a document: what stands there twice is kept once, objects go into streams, and streams are packed
by DEFLATE (RFC 1951) at its best."""

from __future__ import annotations

import hashlib
import io
import zlib
from typing import Any

import deflate
import pikepdf

#: Of libdeflate, its best; larger streams are left as they are packed.
_LEVEL, _MOST_BYTES = 12, 64_000_000
#: What one document refers to is followed no deeper than this.
_DEEPEST = 60


def merge_doubles(pdf: pikepdf.Pdf) -> int:
    """Refers to one of several equal streams wherever one of them is referred to; how many fell away."""
    first: dict[bytes, Any] = {}
    instead: dict[tuple[int, int], Any] = {}
    for found in pdf.objects:
        if isinstance(found, pikepdf.Stream) and found.get("/Type") != pikepdf.Name.ObjStm:
            dictionary = found.stream_dict.unparse(resolved=False)
            print_of = hashlib.sha256(dictionary + b"\0" + found.read_raw_bytes()).digest()
            kept = first.setdefault(print_of, found)
            if kept.objgen != found.objgen:
                instead[found.objgen] = kept
    if instead:
        for found in pdf.objects:
            _refer(found, instead, 0)
    return len(instead)


def _refer(holder: Any, instead: dict[tuple[int, int], Any], depth: int) -> None:
    if depth > _DEEPEST:
        return
    if isinstance(holder, pikepdf.Stream):
        holder = holder.stream_dict
    if isinstance(holder, pikepdf.Dictionary):
        items: list[tuple[Any, Any]] = list(holder.items())
    elif isinstance(holder, pikepdf.Array):
        items = list(enumerate(holder))
    else:
        return
    for key, value in items:
        if getattr(value, "is_indirect", False):
            if value.objgen in instead:
                holder[key] = instead[value.objgen]
        else:
            _refer(value, instead, depth + 1)


def packed(pdf: pikepdf.Pdf) -> bytes:
    """The document's bytes; laid out for the web where it was."""
    pikepdf.settings.set_flate_compression_level(9)
    out = io.BytesIO()
    pdf.remove_unreferenced_resources()
    for found in pdf.objects:
        if isinstance(found, pikepdf.Stream):
            _pack(found)
    pdf.save(
        out,
        object_stream_mode=pikepdf.ObjectStreamMode.generate,
        compress_streams=True,
        recompress_flate=False,
        linearize=pdf.is_linearized,
        preserve_pdfa=True,
        deterministic_id=True,
        fix_metadata_version=False,
    )
    return out.getvalue()


def _pack(stream: pikepdf.Stream) -> None:
    """The same bytes in fewer; a predictor before them stays what it is."""
    filters: Any = stream.get("/Filter")
    if isinstance(filters, pikepdf.Array):
        filters = filters[0] if len(filters) == 1 else None
    if filters != pikepdf.Name.FlateDecode:
        return
    raw = stream.read_raw_bytes()
    try:
        unpacking = zlib.decompressobj()
        plain = unpacking.decompress(raw, _MOST_BYTES)
    except zlib.error:
        return
    if not unpacking.eof:
        return
    better = deflate.zlib_compress(plain, _LEVEL)
    if len(better) < len(raw):
        parameters: Any = stream.get("/DecodeParms")
        stream.write(bytes(better), filter=pikepdf.Name.FlateDecode, decode_parms=parameters)
