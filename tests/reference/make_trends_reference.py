#!/usr/bin/env python3
"""Unit roots, levels, shared trends and errors that carry over, by numpy's least squares alone.

  /usr/bin/python3 tests/reference/make_trends_reference.py   writes trends_reference.json
"""
import json
import math

import numpy as np

rng = np.random.default_rng(42)


def ols(X, y):
    b, *_ = np.linalg.lstsq(X, y, rcond=None)
    e = y - X @ b
    s2 = e @ e / (len(y) - X.shape[1])
    return b, np.sqrt(np.diag(s2 * np.linalg.inv(X.T @ X))), e @ e, e


def regression(y, with_, lags, drop=None):
    """Changes on level before and `lags` earlier changes; the first `drop` rows are left out."""
    drop = lags if drop is None else drop
    d = np.diff(y)
    rows = range(drop, len(d))
    columns = []
    if with_ != "none":
        columns.append(np.ones(len(rows)))
    if with_ == "trend":
        columns.append(np.array([t + 1.0 for t in rows]))
    columns.append(np.array([y[t] for t in rows]))
    for j in range(1, lags + 1):
        columns.append(np.array([d[t - j] for t in rows]))
    return np.column_stack(columns), np.array([d[t] for t in rows])


def statistic(y, with_, lags):
    X, d = regression(y, with_, lags)
    at = {"none": 0, "constant": 1, "trend": 2}[with_]
    b, se, _, _ = ols(X, d)
    return b[at] / se[at]


def chosen(y, with_, by):
    most = int(math.floor(12 * (len(y) / 100) ** 0.25))
    best = None
    for lags in range(most + 1):
        X, d = regression(y, with_, lags, most)
        n = len(d)
        rss = ols(X, d)[2]
        value = n * math.log(rss / n) + (math.log(n) if by == "bic" else 2.0) * X.shape[1]
        if best is None or value < best[0]:
            best = (value, lags)
    return best[1]


def roots(y):
    out = []
    for with_ in ["none", "constant", "trend"]:
        for lags in [0, 1, 3]:
            out.append({"with": with_, "lags": lags, "t": statistic(y, with_, lags)})
        for by in ["aic", "bic"]:
            lags = chosen(y, with_, by)
            out.append({"with": with_, "by": by, "lags": lags, "t": statistic(y, with_, lags)})
    return out


def level(y, with_):
    n = len(y)
    t = np.arange(n, dtype=float)
    X = np.ones((n, 1)) if with_ == "constant" else np.column_stack([np.ones(n), t])
    e = ols(X, y)[3]
    lags = int(math.floor(4 * (n / 100) ** 0.25))
    s2 = e @ e / n
    for l in range(1, lags + 1):
        s2 += 2 / n * (1 - l / (lags + 1)) * (e[l:] @ e[:-l])
    return {"with": with_, "lags": lags, "eta": float((np.cumsum(e) ** 2).sum() / n**2 / s2)}


def prais(y, X, first, groups=None):
    n = len(y)
    groups = np.zeros(n, int) if groups is None else groups
    pairs = [i for i in range(1, n) if groups[i] == groups[i - 1]]
    starts = [i for i in range(n) if i not in set(pairs)]
    b = ols(X, y)[0]
    rho = 0.0
    for _ in range(10000):
        e = y - X @ b
        new = sum(e[i] * e[i - 1] for i in pairs) / sum(e[i - 1] ** 2 for i in pairs)
        stands = abs(new - rho) < 1e-13
        rho = new
        Xs, ys = X.copy(), y.copy()
        for i in pairs:
            Xs[i] = X[i] - rho * X[i - 1]
            ys[i] = y[i] - rho * y[i - 1]
        for i in starts:
            Xs[i] = X[i] * math.sqrt(1 - rho**2)
            ys[i] = y[i] * math.sqrt(1 - rho**2)
        keep = list(range(n)) if first == "kept" else pairs
        b, se, rss, _ = ols(Xs[keep], ys[keep])
        if stands:
            break
    return {"first_row": first, "rho": rho, "b": list(b), "se": list(se),
            "sigma": math.sqrt(rss / (len(keep) - X.shape[1])), "rows": len(keep)}


def autoregression(n, rho, start=0.0):
    out = [start]
    for e in rng.standard_normal(n - 1):
        out.append(rho * out[-1] + e)
    return np.array(out)


walk = np.cumsum(rng.standard_normal(60)) + 500.0
other = np.cumsum(rng.standard_normal(60))
pulled = autoregression(60, 0.5) + 10.0
line = 0.3 * np.arange(60) + autoregression(60, 0.4)
tied = 2.0 + 1.5 * other + 0.6 * rng.standard_normal(60)
out = {"series": {}, "pairs": [], "panel": {}, "echo": {}}
for name, y in [("walk", walk), ("other", other), ("pulled", pulled), ("line", line), ("tied", tied)]:
    out["series"][name] = {"values": list(y), "roots": roots(y),
                           "levels": [level(y, "constant"), level(y, "trend")]}
for a, b in [("walk", "other"), ("tied", "other")]:
    y = np.array(out["series"][a]["values"])
    x = np.array(out["series"][b]["values"])
    for trend in [False, True]:
        X = np.column_stack([np.ones(60), x] + ([np.arange(60.0)] if trend else []))
        e = ols(X, y)[3]
        for lags in [0, 2]:
            out["pairs"].append({"outcome": a, "term": b, "trend": trend, "lags": lags,
                                 "t": statistic(e, "none", lags)})
units = []
for u in range(8):
    units.append(list(autoregression(30, 1.0 if u < 5 else 0.6)))
out["panel"] = {"units": units,
                "ts": {w: [statistic(np.array(u), w, 1) for u in units] for w in ["constant", "trend"]}}
x = np.cumsum(rng.standard_normal(40)) * 0.5
z = rng.standard_normal(40)
y = 1.0 + 0.8 * x - 0.4 * z + autoregression(40, 0.7)
X = np.column_stack([np.ones(40), x, z])
out["echo"] = {"y": list(y), "x": list(x), "z": list(z),
               "fits": [prais(y, X, "kept"), prais(y, X, "dropped")],
               "panel": [prais(y, X, f, np.arange(40) // 10) for f in ["kept", "dropped"]]}
with open("tests/reference/trends_reference.json", "w") as f:
    json.dump(out, f, indent=1)
