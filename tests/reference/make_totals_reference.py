#!/usr/bin/env python3
"""Reference values for weights brought to known totals: totals_reference.json.

The equations of Deville & Särndal (1992), sum of d F(x'l) x = T, by chord steps in mpmath with 40
digits; errors of least squares by residuals on the totals over strata and clusters, in numpy. The
cells of raking to shares alone are checked here against iterative proportional fitting.
"""
import json
import pathlib

import numpy as np
from mpmath import exp, matrix, mp, mpf

mp.dps = 40


def generator(seed):
    state = seed
    while True:
        state = (1103515245 * state + 12345) % 2**31
        yield state / 2**31


def made():
    draw = generator(11)
    d = {name: [] for name in ("y", "x", "w", "h", "c", "zone", "sex", "age", "part")}
    for i in range(144):
        zone = 1 + int(4 * next(draw) ** 1.3)
        sex = int(next(draw) < 0.4)
        age = round(22 + 55 * next(draw), 1)
        x = round(2 * next(draw) - 1 + 0.3 * sex, 3)
        noise = sum(next(draw) for _ in range(12)) - 6
        y = round(1 + 0.5 * x + 0.02 * age + 0.4 * zone + noise, 4)
        row = (y, x, round(0.5 + 2 * next(draw), 3), 1 + i // 48, i // 6, zone, sex, age, int(next(draw) < 0.6))
        for name, value in zip(d, row):
            d[name].append(float(value))
    return d


d = made()
n = len(d["y"])
zones = {"1": 0.22, "2": 0.28, "3": 0.24, "4": 0.26}
women = {"0": 0.49, "1": 0.51}
age_mean = 47.1
w = [mpf(v) for v in d["w"]]
total = sum(w)


def columns(with_age):
    rows = []
    for i in range(n):
        row = [mpf(1)] + [mpf(int(d["zone"][i] == z)) for z in (2, 3, 4)] + [mpf(d["sex"][i])]
        rows.append(row + ([mpf(d["age"][i]) - mpf(age_mean)] if with_age else []))
    asked = [total * v for v in [mpf(1), mpf(zones["2"]), mpf(zones["3"]), mpf(zones["4"]), mpf(women["1"])]]
    return rows, asked + ([mpf(0)] if with_age else [])


def ratio_of(kind, low, high):
    if kind == "raking" and low is None:
        return exp
    if kind == "linear" and low is None:
        return lambda u: 1 + u
    if kind == "linear":
        return lambda u: min(max(1 + u, low), high)
    a = (high - low) / ((1 - low) * (high - 1))
    return lambda u: (low * (high - 1) + high * (1 - low) * exp(a * u)) / (high - 1 + (1 - low) * exp(a * u))


def calibrate(kind, low, high, with_age):
    rows, asked = columns(with_age)
    k = len(asked)
    ratio = ratio_of(kind, low, high)

    def miss(*l):
        new = [w[i] * ratio(sum(a * b for a, b in zip(rows[i], l))) for i in range(n)]
        return [sum(new[i] * rows[i][j] for i in range(n)) - asked[j] for j in range(k)]

    # The slope at the weights drawn with serves every step: it needs no derivative of the ratio.
    slope = matrix(k, k)
    for i in range(n):
        for a in range(k):
            for b in range(k):
                slope[a, b] += w[i] * rows[i][a] * rows[i][b]
    inverse = slope ** -1
    root = [mpf(0)] * k
    for _ in range(4000):
        step = inverse * matrix(miss(*root))
        root = [s - v * mpf("0.7") for s, v in zip(root, step)]
        if max(abs(v) for v in step) < mpf(10) ** -22:
            break
    else:
        raise SystemExit("no convergence: %s" % kind)
    return [w[i] * ratio(sum(a * b for a, b in zip(rows[i], root))) for i in range(n)], rows


def fitted_proportions():
    new = list(w)
    for _ in range(4000):
        for name, shares in (("zone", zones), ("sex", women)):
            sums = {}
            for i in range(n):
                sums[d[name][i]] = sums.get(d[name][i], mpf(0)) + new[i]
            new = [new[i] * total * mpf(shares[str(int(d[name][i]))]) / sums[d[name][i]] for i in range(n)]
    return new


def errors(weights, rows, part):
    y, x, h, c = (np.array(d[name]) for name in ("y", "x", "h", "c"))
    full = np.array([float(v) for v in weights])
    W = np.where(part, full, 0.0)
    X = np.column_stack([np.ones(n), x])
    A = X.T @ (W[:, None] * X)
    b = np.linalg.solve(A, X.T @ (W * y))
    U = X * (W * (y - X @ b))[:, None]
    Z = np.array([[float(v) for v in row] for row in rows])
    B = np.linalg.solve(Z.T @ (full[:, None] * Z), Z.T @ U)
    U = U - full[:, None] * (Z @ B)
    meat = np.zeros((2, 2))
    for s in sorted(set(h)):
        cs = sorted(set(c[h == s]))
        sums = np.array([U[(c == v) & (h == s)].sum(axis=0) for v in cs])
        centred = sums - sums.mean(axis=0)
        meat += len(cs) / (len(cs) - 1) * centred.T @ centred
    inverse = np.linalg.inv(A)
    return {"b": b.tolist(), "se": np.sqrt(np.diag(inverse @ meat @ inverse)).tolist(), "df": len(set(c)) - len(set(h))}


out = {"data": d, "zones": zones, "women": women, "age": age_mean, "cases": []}
for kind, low, high, with_age in (("raking", None, None, False), ("raking", None, None, True),
                                  ("raking", 0.5, 1.8, True), ("linear", None, None, True),
                                  ("linear", 0.5, 1.6, True)):
    bounds = (None, None) if low is None else (mpf(str(low)), mpf(str(high)))
    weights, rows = calibrate(kind, *bounds, with_age)
    if kind == "raking" and not with_age:
        apart = max(abs(a / b - 1) for a, b in zip(weights, fitted_proportions()))
        assert apart < 1e-14, apart  # Shares in double precision sum to one within this.
    ratios = [a / b for a, b in zip(weights, w)]
    print(kind, low, high, with_age, float(min(ratios)), float(max(ratios)))
    out["cases"].append({"calibration": kind, "bounds": None if low is None else [low, high], "age": with_age,
                         "weights": [mp.nstr(v, 20) for v in weights],
                         "all": errors(weights, rows, np.ones(n, bool)),
                         "part": errors(weights, rows, np.array(d["part"]) == 1)})
path = pathlib.Path(__file__).parent / "totals_reference.json"
path.write_text(json.dumps(out, indent=1) + "\n", encoding="utf-8")
