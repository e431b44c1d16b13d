#!/usr/bin/env python3
"""Compares the allocated sections of two object files: contents and relocations (offset, type, symbol, addend; section
symbols go by their section's name). Of unwind tables the entries are compared, in whatever order they are. Reads ELF by
itself.

usage: same_object.py A.o B.o"""
import sys


def read(path):
    data = open(path, "rb").read()
    wide = data[4] == 2
    word = 8 if wide else 4
    at = lambda offset, size: int.from_bytes(data[offset:offset + size], "little")
    text = lambda offset: data[offset:data.index(b"\0", offset)].decode("latin1")
    table, entry, count, names = ((at(40, 8), at(58, 2), at(60, 2), at(62, 2)) if wide else
                                  (at(32, 4), at(46, 2), at(48, 2), at(50, 2)))
    sections = []
    for i in range(count):
        head = table + i * entry
        flags, _, offset, size = (at(head + 8 + word * k, word) for k in range(4))
        link, info = at(head + 8 + 4 * word, 4), at(head + 12 + 4 * word, 4)
        sections.append(dict(name=at(head, 4), type=at(head + 4, 4), flags=flags, offset=offset, size=size, link=link,
                             info=info))
    for section in sections:
        section["name"] = text(sections[names]["offset"] + section["name"])
    result = {}
    for section in sections:
        if section["flags"] & 2 and section["size"]:
            contents = b"" if section["type"] == 8 else data[section["offset"]:section["offset"] + section["size"]]
            result.setdefault(section["name"], []).append([section["size"], contents, []])
            section["place"] = result[section["name"]][-1]
    for section in sections:
        if section["type"] not in (4, 9) or "place" not in sections[section["info"]]:
            continue
        step = (24 if wide else 12) if section["type"] == 4 else (16 if wide else 8)
        symbols = sections[section["link"]]
        strings = sections[symbols["link"]]
        for offset in range(section["offset"], section["offset"] + section["size"], step):
            place, info = at(offset, word), at(offset + word, word)
            kind, index = (info & 0xffffffff, info >> 32) if wide else (info & 0xff, info >> 8)
            symbol = symbols["offset"] + index * (24 if wide else 16)
            value = data[symbol + (4 if wide else 12)]
            name = text(strings["offset"] + at(symbol, 4))
            if value & 15 == 3:
                name = sections[at(symbol + (6 if wide else 14), 2)]["name"]
            addend = int.from_bytes(data[offset + 2 * word:offset + 3 * word], "little", signed=True) if section["type"] == 4 else 0
            if sections[section["info"]]["name"] == ".eh_frame" and data[symbol + (4 if wide else 12)] >> 4 == 0:
                # A local symbol or its section with an offset: the assembler's choice.
                addend += at(symbol + (8 if wide else 4), word)
                name = sections[at(symbol + (6 if wide else 14), 2)]["name"]
            sections[section["info"]]["place"][2].append((place, kind, name, addend))
    for places in result.values():
        for place in places:
            place[2].sort()
    result[".eh_frame"] = [[0, b"", entry] for table in result.get(".eh_frame", []) for entry in unwinding(table)]
    return result


def unwinding(table):
    """The entries, each with its common part: contents without links among them and padding, and relocations by their
    place in the entry."""
    _, data, relocations = table
    commons, entries, at = {}, [], 0
    while at + 8 <= len(data):
        length = int.from_bytes(data[at:at + 4], "little")
        link = int.from_bytes(data[at + 4:at + 8], "little")
        inside = [(place - at, kind, name, addend) for place, kind, name, addend in relocations
                  if at <= place < at + 4 + length]
        contents = data[at + 8:at + 4 + length].rstrip(b"\0")
        if link == 0:
            commons[at] = (contents, inside)
        else:
            entries.append([inside, contents, commons[at + 4 - link]])
        at += 4 + length
    return sorted(entries)


def main():
    a, b = read(sys.argv[1]), read(sys.argv[2])
    bad = 0
    for name in sorted(set(a) | set(b)):
        if a.get(name) == b.get(name):
            continue
        if name in (".note.gnu.property",):
            continue
        bad += 1
        print(f"{name} differs: {[x[0] for x in a.get(name, [])]} against {[x[0] for x in b.get(name, [])]} bytes")
        for one, two in zip(a.get(name, []), b.get(name, [])):
            place = next((i for i, (x, y) in enumerate(zip(one[1], two[1])) if x != y), None)
            print("  first different byte:", place)
            print("  relocations:", [(x, y) for x, y in zip(one[2], two[2]) if x != y][:3])
    print(f"{sum(map(len, a.values()))} sections, {sum(len(x[2]) for xs in a.values() for x in xs)} relocations: "
          f"{'equal' if not bad else 'DIFFERENT'}")
    return 1 if bad else 0


sys.exit(main())
