#!/usr/bin/env python3
"""Turns the table of library functions into rows of abi/prototypes.cpp.

usage: generate_prototypes.py OUTPUT.inc INPUT COMPILER

Declarations are taken from the installed headers, as the compiler's preprocessor gives them. A function that no header
here declares is left out."""
import re
import subprocess
import sys

KINDS = {"text", "reads", "writes", "both", "format", "scan", "object", "call", "gives_back"}
# Sizes: 0 stands for a word of the program's.
NUMBERS = {
    "char": (1, True), "signed char": (1, True), "unsigned char": (1, False), "short": (2, True),
    "unsigned short": (2, False), "int": (4, True), "unsigned int": (4, False), "unsigned": (4, False),
    "long": (0, True), "long int": (0, True), "unsigned long": (0, False), "unsigned long int": (0, False),
    "long long": (8, True), "long long int": (8, True), "unsigned long long": (8, False),
    "unsigned long long int": (8, False), "short int": (2, True), "short unsigned int": (2, False),
    "long unsigned int": (0, False), "long long unsigned int": (8, False), "bool": (1, False), "_Bool": (1, False),
}
REALS = {"float": 4, "double": 8, "long double": 16}


def parts_of(text):
    """What stands between commas, those in brackets left alone."""
    parts, depth, part = [], 0, ""
    for character in text:
        depth += character in "([{"
        depth -= character in ")]}"
        if character == "," and depth == 0:
            parts.append(part)
            part = ""
        else:
            part += character
    return [one.strip() for one in parts + [part]]


def without_attributes(text):
    while (found := re.search(r"__attribute__\s*\(|__asm__\s*\(|__extension__|__restrict|\b__inline\b|\bextern\b", text)):
        start, end = found.span()
        depth = text[start:end].count("(")
        while depth and end < len(text):
            depth += (text[end] == "(") - (text[end] == ")")
            end += 1
        text = text[:start] + " " + text[end:]
    return re.sub(r"\s+", " ", text).strip()


class Headers:
    def __init__(self, compiler, names):
        source = "#define _GNU_SOURCE\n" + "".join(
            f"#if __has_include(<{name}>)\n#include <{name}>\n#endif\n" for name in names)
        done = subprocess.run([compiler, "-x", "c", "-E", "-P", "-"], input=source, capture_output=True, text=True,
                              check=True)
        self.declarations = {}
        self.types = {"__SOCKADDR_ARG": "void *", "__CONST_SOCKADDR_ARG": "const void *"}  # unions of pointers
        text = re.sub(r"\s+", " ", done.stdout)
        # Bodies of structures say nothing here.
        while re.search(r"\{[^{}]*\}", text):
            text = re.sub(r"\{[^{}]*\}", "", text)
        for statement in text.split(";"):
            statement = without_attributes(statement)
            if statement.startswith("typedef "):
                found = re.fullmatch(r"typedef ([\w ]+?) (\w+)", statement)
                if found:
                    self.types.setdefault(found.group(2), found.group(1))
                elif (found := re.fullmatch(r"typedef .*\(\* ?(\w+)\) ?\(.*\)", statement)):
                    self.types[found.group(1)] = "void *"
            elif (found := re.fullmatch(r"([\w \*]+?[ \*])(\w+) ?\((.*)\)", statement)):
                self.declarations.setdefault(found.group(2), (found.group(1).strip(), found.group(3)))

    def plain(self, text):
        text = re.sub(r"\b(const|volatile|struct|enum|union)\b", "", text)
        text = re.sub(r"\s+", " ", text).strip()
        for _ in range(8):
            if text in NUMBERS or text in REALS or text not in self.types:
                break
            text = re.sub(r"\b(const|volatile)\b", "", self.types[text]).strip()
        return text


def name_and_type(text, place):
    """Of a parameter: "int __fd" gives ("fd", "int")."""
    function = re.search(r"\(\* ?(?:const )?(\w*)\)", text)
    if function:
        name = function.group(1)
        return name.lstrip("_") or f"argument{place}", text.replace(name, "", 1) if name else text
    array = re.sub(r"\s*\[[^\]]*\]", "", text)
    stars = " *" if array != text else ""
    found = re.fullmatch(r"(.*[ \*])(\w+)", array)
    keyword = found and found.group(2) in {"int", "char", "long", "double", "float", "short", "unsigned"} | {"void"}
    if not found or keyword or not found.group(1).strip() or found.group(1).strip() in ("struct", "const", "union"):
        return f"argument{place}", array + stars
    return found.group(2).lstrip("_"), (found.group(1) + stars).strip()


def literal(text):
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def shown(text):
    """A type as it is written in C, without the library's own underscores."""
    text = text.replace("__CONST_SOCKADDR_ARG", "const struct sockaddr *").replace("__SOCKADDR_ARG", "struct sockaddr *")
    text = re.sub(r"\s*\*\s*", "*", re.sub(r"\b__(\w+_t)\b", r"\1", text))
    return re.sub(r"(?<=[\w>])\*", " *", text)


def kind_of(headers, text):
    """Kind, size and sign."""
    plain = headers.plain(text)
    if "*" in text or "*" in plain or "(" in text or "va_list" in text:
        return "pointer", 0, "false"
    if plain == "void":
        return "none", 0, "false"
    if plain in REALS:
        return "real", REALS[plain], "true"
    size, signed = NUMBERS.get(plain, (4, False) if re.search(r"\benum\b", text) else (None, None))
    if size is None:
        return None
    return "number", size, str(signed).lower()


def use_of(text, rule):
    if rule:
        name, sizes = re.fullmatch(r"(\w+)(?:\[([\d*]+)\])?", rule).groups()
        assert name in KINDS, rule
        numbers = [int(one) for one in sizes.split("*")] if sizes else []
        return name, (numbers + [0, 0])[:2]
    if "(" in text:
        return "call", [0, 0]
    if re.fullmatch(r"const char ?\*", text.strip()):
        return "text", [0, 0]
    if "*" in text:
        return ("reads" if text.strip().startswith("const") else "place"), [0, 0]
    return "none", [0, 0]


def main():
    output, table, compiler = sys.argv[1:]
    headers, wanted, declared = [], [], []
    for line in open(table, encoding="utf-8"):
        words = line.split("#")[0].split()
        if not words:
            continue
        if words[0] == "header":
            headers.append(words[1])
        elif words[0] == "declare":
            declared.append(line.split(None, 1)[1].strip())
        else:
            wanted.append((words[0], dict((int(one.split("=")[0]), one.split("=")[1]) for one in words[1:])))
    known = Headers(compiler, headers)
    for line in declared:
        result, name, parameters = re.fullmatch(r"(.*?[ \*])(\w+)\((.*)\)", line).groups()
        known.declarations[name] = (result.strip(), parameters)
    rows, missing = [], []
    for name, rules in sorted(wanted):
        if name not in known.declarations:
            missing.append(name)
            continue
        result, parameters = known.declarations[name]
        texts = [one for one in parts_of(parameters) if one and one != "void"]
        variadic = bool(texts) and texts[-1] == "..."
        cells = []
        for place, text in enumerate(texts[:-1] if variadic else texts, 1):
            parameter, type_text = name_and_type(text, place)
            kind = kind_of(known, type_text)
            if kind is None:
                cells = None
                break
            use, sizes = use_of(type_text, rules.get(place))
            cells.append(f"{{{literal(parameter)}, {literal(shown(type_text))}, Number::{kind[0]}, {kind[1]}, {kind[2]}, "
                         f"Use::{use}, {{{sizes[0]}, {sizes[1]}}}}}")
        kind = kind_of(known, result)
        if cells is None or kind is None:
            missing.append(name)
            continue
        rows.append(f"    {{{literal(name)}, {literal(result)}, Number::{kind[0]}, {kind[1]}, {kind[2]}, "
                    f"{str(variadic).lower()}, {len(cells)}, {{{{{', '.join(cells)}}}}}}},")
    with open(output, "w", encoding="utf-8") as out:
        out.write("// Generated by generate_prototypes.py; do not edit.\nconstexpr Prototype kPrototypes[] = {\n"
                  + "\n".join(rows) + "\n};\n")
    if missing:
        print("not declared here, left out: " + " ".join(missing))


if __name__ == "__main__":
    main()
