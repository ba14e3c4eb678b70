"""Writes data_reference.json: alpha of a scale and facts of a survey design on demo/growers.csv.

Exact rational arithmetic where sums allow it, mpmath with 50 digits elsewhere.
"""
import csv
import json
import pathlib
from fractions import Fraction

from mpmath import mp, mpf, sqrt

mp.dps = 50
root = pathlib.Path(__file__).parent.parent.parent
rows = list(csv.DictReader(open(root / "demo" / "growers.csv", encoding="utf-8")))


def cell(row, name):
    text = row[name]
    return None if text in ("", "-9") else Fraction(text)


def variance(values):
    mean = sum(values) / len(values)
    return sum((v - mean) ** 2 for v in values) / (len(values) - 1)


def covariance(a, b):
    ma, mb = sum(a) / len(a), sum(b) / len(b)
    return sum((x - ma) * (y - mb) for x, y in zip(a, b)) / (len(a) - 1)


def real(fraction):
    return mpf(fraction.numerator) / mpf(fraction.denominator)


# Cronbach (1951): alpha and item-rest correlations; outlook_3 turned round.
names = ["outlook_1", "outlook_2", "outlook_3", "outlook_4"]
complete = [[cell(r, n) for n in names] for r in rows if all(cell(r, n) is not None for n in names)]
items = [[(8 - v if k == 2 else v) for v in (row[k] for row in complete)] for k in range(4)]


def alpha(parts):
    k = len(parts)
    total = [sum(v) for v in zip(*parts)]
    return Fraction(k, k - 1) * (1 - sum(variance(p) for p in parts) / variance(total))


scale = {"n": len(complete), "alpha": str(real(alpha(items))), "items": []}
for k in range(4):
    rest = [sum(v) for v in zip(*(items[j] for j in range(4) if j != k))]
    r = real(covariance(items[k], rest)) / sqrt(real(variance(items[k]) * variance(rest)))
    scale["items"].append({"with_rest": str(r),
                           "alpha_without": str(real(alpha([items[j] for j in range(4) if j != k])))})

# Kish (1965): effect of the weights; design effect of the mean of hives by linearisation,
# strata = zone, clusters = village.
weights = [Fraction(r["weight"]) for r in rows]
effect = len(rows) * sum(w * w for w in weights) / sum(weights) ** 2
used = [(Fraction(r["weight"]), cell(r, "hives"), r["zone"], r["village"])
        for r in rows if cell(r, "hives") is not None]
total = sum(u[0] for u in used)
mean = sum(w * x for w, x, _, _ in used) / total
clusters = {}
for w, x, zone, village in used:
    key = (zone, village)
    clusters[key] = clusters.get(key, Fraction(0)) + w * (x - mean) / total
strata = {}
for (zone, _), score in clusters.items():
    strata.setdefault(zone, []).append(score)
between = sum(Fraction(len(s), len(s) - 1) * sum((v - sum(s) / len(s)) ** 2 for v in s)
              for s in strata.values())
n = len(used)
simple = sum(w * (x - mean) ** 2 for w, x, _, _ in used) / total * Fraction(n, n - 1) / n
design = {"rows": len(rows), "clusters": len({(r["zone"], r["village"]) for r in rows}),
          "strata": len({r["zone"] for r in rows}),
          "weight_effect": str(real(effect)), "mean_effect": str(real(between / simple))}

out = pathlib.Path(__file__).parent / "data_reference.json"
out.write_text(json.dumps({"scale": scale, "design": design}, indent=1) + "\n", encoding="utf-8")
