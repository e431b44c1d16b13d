"""The enumerations of table.h, which the generated tables number by position: table.h is the one place that lists them."""
import os
import re
import sys

HEADER = os.path.join(os.path.dirname(os.path.abspath(__file__)), "..", "table.h")


def enumerators(name, prefix=""):
    """The enumerators of an enumeration in the order of their values, without their prefix."""
    with open(HEADER, encoding="utf-8") as file:
        text = re.sub(r"//[^\n]*", "", file.read())
    body = re.search(r"enum (?:class )?" + name + r"\b[^{]*{([^}]*)}", text)
    if body is None:
        sys.exit(f"table.h: no enumeration {name}")
    found, next_value = {}, 0
    for entry in filter(None, (part.strip() for part in body[1].split(","))):
        word, _, value = (part.strip() for part in entry.partition("="))
        number = next_value if not value else eval(re.sub(r"(\d)[uU]", r"\1", value))  # noqa: S307 - our own header
        next_value = number + 1
        found[number] = word.removeprefix(prefix)
    return [found[number] for number in sorted(found)]


def bits(name, prefix):
    """The same of an enumeration of bits, which must have no gap."""
    names = enumerators(name, prefix)
    with open(HEADER, encoding="utf-8") as file:
        text = file.read()
    for position, word in enumerate(names):
        if not re.search(rf"\b{prefix}{word} = 1U? << {position}\b", text):
            sys.exit(f"table.h: {prefix}{word} is not bit {position}")
    return names
