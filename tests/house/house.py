#!/usr/bin/python3
"""How tidy the house is, in numbers that may only go down: ./dev house.

Each number has a limit in limits.json, which is where it stands today. One that grew is an error, with
the places that make it up under --all; one that shrank asks for its limit to be lowered (--lower does).
Aims are written beside, so that nobody takes a limit for an aim.
"""
import collections
import json
import pathlib
import re
import sys

ROOT = pathlib.Path(__file__).resolve().parents[2]
LIMITS = pathlib.Path(__file__).parent / "limits.json"
# A folder of core uses those before it.
ORDER = ["base", "data", "io", "expression", "numerics", "describe", "picture", "model", "impute", "checks", "paths",
         "study", "defend", "left", "report"]
REGISTRY = "core/model/estimator_table.cpp"


def sources(*folders):
    for folder in folders:
        for path in sorted((ROOT / folder).rglob("*")):
            if path.suffix in (".cpp", ".h") and "build" not in path.parts:
                yield path.relative_to(ROOT).as_posix(), path.read_text(encoding="utf-8")


def method_names():
    """Names of methods as the registry has them."""
    text = (ROOT / REGISTRY).read_text(encoding="utf-8")
    return set(re.findall(r'\.method = "([a-z][a-z-]+)"', text))


def without_comments(text):
    return re.sub(r"//[^\n]*", "", text)


def functions(text):
    """(first line, lines, parameters) of every body, found by the indentation that the formatter keeps."""
    lines = text.split("\n")
    for i, line in enumerate(lines):
        if not line.endswith("{") or line.lstrip().startswith(("namespace", "class", "struct", "enum", "union", "if", "for",
                                                               "while", "switch", "else", "do", "try", "}", "case")):
            continue
        indent = len(line) - len(line.lstrip())
        start = i
        # The head may take several lines.
        while start > 0 and ")" in line and head(lines[start:i + 1]).count("(") < head(lines[start:i + 1]).count(")"):
            start -= 1
        signature = head(lines[start:i + 1])
        first = len(lines[start]) - len(lines[start].lstrip())
        if "(" not in signature or first > 4 or "= [" in signature or re.search(r"\breturn\b", signature):
            continue
        end = next((j for j in range(i + 1, len(lines)) if lines[j].startswith(" " * first + "}")
                    and len(lines[j]) - len(lines[j].lstrip()) == first), None)
        if end is not None and indent >= first:
            yield start + 1, end - start + 1, parameters(signature)


def head(lines):
    return " ".join(part.strip() for part in lines)


def parameters(signature):
    depth, count, seen = 0, 0, False
    inside = signature[signature.index("("):]
    for k, c in enumerate(inside):
        if c in "(<[{":
            depth += 1
        elif c in ")]}" or (c == ">" and inside[k - 1] != "-"):
            depth -= 1
            if depth == 0:
                break
        elif c == "," and depth == 1:
            count += 1
        elif depth >= 1 and not c.isspace():
            seen = True
    return count + 1 if seen else 0


def measure():
    found = collections.defaultdict(list)
    names = method_names()
    for path, text in sources("core", "app"):
        code = without_comments(text)
        literals = [name for name in re.findall(r'"([a-z][a-z-]+)"', code) if name in names]
        if path != REGISTRY:
            found["literals of method names"] += [f"{path}: {name}" for name in literals]
            if len(set(literals)) >= 3:
                found["files that name three methods and more"].append(path)
        lines = text.count("\n")
        if lines > 500:
            found["files over 500 lines"].append(f"{path}: {lines}")
        for at, long, takes in functions(text):
            if long > 80:
                found["functions over 80 lines"].append(f"{path}:{at}: {long}")
            if takes > 5:
                found["functions of more than five parameters"].append(f"{path}:{at}: {takes}")
        if path.startswith("core/"):
            found["core includes the window"] += [path for _ in re.findall(r'#include "app/', text)]
            folder = path.split("/")[1]
            for other in re.findall(r'#include "core/(\w+)/', text):
                if folder in ORDER and other in ORDER and ORDER.index(other) > ORDER.index(folder):
                    found["folders of core that use a later one"].append(f"{path} uses {other}")
        if path.startswith("app/stages/") or path.startswith("app/question/"):
            found["colours written as numbers in the stages"] += [
                f"{path}: {hex_}" for hex_ in re.findall(r'#[0-9A-Fa-f]{6}\b', code)]
    product = sum(text.count("\n") for _, text in sources("core", "app", "run"))
    tests = sum(text.count("\n") for _, text in sources("tests"))
    return found, 100.0 * tests / product


def main(arguments):
    limits = json.loads(LIMITS.read_text(encoding="utf-8"))
    found, share = measure()
    worse = False
    for name, limit in limits["at most"].items():
        count = len(found[name])
        says = "" if count == limit["now"] else f"  GREW from {limit['now']}" if count > limit["now"] else "  the limit can be lowered"
        print(f"{count:5}  {name} (aim: {limit['aim']}){says}")
        worse = worse or count > limit["now"]
        if "--all" in arguments or count > limit["now"]:
            for one in found[name]:
                print(f"         {one}")
        if "--lower" in arguments:
            limit["now"] = min(limit["now"], count)
    least = limits["at least"]["lines of tests, % of the product's"]
    print(f"{share:5.1f}  lines of tests, % of the product's (aim: {least['aim']})")
    if share < least["now"] - 0.05:
        print(f"       FELL from {least['now']}")
        worse = True
    if "--lower" in arguments:
        least["now"] = max(least["now"], round(share, 1))
        LIMITS.write_text(json.dumps(limits, indent=2, ensure_ascii=False) + "\n", encoding="utf-8")
    return 1 if worse else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
