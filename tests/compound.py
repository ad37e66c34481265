"""Writes compound files ([MS-CFB] 2): storages and streams, each of at least 4,096 octets, in sectors of 512."""

from __future__ import annotations

import struct

_SECTOR, _FREE, _END, _FAT = 512, 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFFFFFD

Tree = dict[str, "bytes | Tree"]


def written(tree: Tree) -> bytes:
    """The octets of a compound file with these storages and streams."""
    sectors: list[bytes] = []
    fat: list[int] = []

    def stored(data: bytes) -> int:
        data = data.ljust(max(4096, -(-len(data) // _SECTOR) * _SECTOR), b"\0")
        begin, number = len(sectors), len(data) // _SECTOR
        sectors.extend(data[n * _SECTOR : (n + 1) * _SECTOR] for n in range(number))
        fat.extend([*range(begin + 1, begin + number), _END])
        return begin

    entries: list[list[object]] = [["Root Entry", 5, _FREE, _FREE, _FREE, _END, 0]]

    def added(inside: Tree) -> int:
        """The first of some entries; the others hang on its right, one on another."""
        first = before = _FREE
        for name, content in sorted(inside.items(), key=lambda one: (len(one[0]), one[0].upper())):
            number = len(entries)
            is_stream = isinstance(content, bytes)
            begin = stored(content) if is_stream else 0  # type: ignore[arg-type]
            size = max(len(content), 4096) if is_stream else 0
            entries.append([name, 2 if is_stream else 1, _FREE, _FREE, _FREE, begin, size])
            if not is_stream:
                entries[number][4] = added(content)  # type: ignore[arg-type]
            if before == _FREE:
                first = number
            else:
                entries[before][3] = number
            before = number
        return first

    entries[0][4] = added(tree)
    directory = b""
    for name, kind, left, right, child, begin, size in entries:
        encoded = str(name).encode("utf-16-le")
        directory += encoded.ljust(64, b"\0") + struct.pack("<HBBIII", len(encoded) + 2, kind, 1, left, right, child)
        directory += b"\0" * 36 + struct.pack("<IQ", begin, size)
    at = stored(directory)
    number = 1
    while len(fat) + number > number * _SECTOR // 4:
        number += 1
    table = len(fat)
    fat += [_FAT] * number
    fat += [_FREE] * (number * _SECTOR // 4 - len(fat))
    packed = struct.pack(f"<{len(fat)}I", *fat)
    header = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + b"\0" * 16 + struct.pack("<HHHHH", 0x3E, 3, 0xFFFE, 9, 6) + b"\0" * 6
    header += struct.pack("<9I", 0, number, at, 0, 4096, _END, 0, _END, 0)
    header += struct.pack("<109I", *range(table, table + number), *[_FREE] * (109 - number))
    return header + b"".join(sectors) + packed
