#!/usr/bin/env python3
"""Reference values for what pictures draw: picture_reference.json.

Each number by another way than the core takes: the smoother row by row as a projection (numpy's
lstsq on the weighted local design), its degrees of freedom from the whole operator matrix, partial
autocorrelations by solving the Yule–Walker equations, means of a design by summing over strata and
clusters in plain loops, curves by lstsq on plain powers, laws by mpmath.
"""
import json
import math
import pathlib

import mpmath as mp
import numpy as np

mp.mp.dps = 40


def generator(seed):
    x = seed
    def draw():
        nonlocal x
        x = (1103515245 * x + 12345) % 2**31
        return x / 2**31
    return draw


def points(n, seed, step=None):
    draw = generator(seed)
    out = []
    for _ in range(n):
        a = 10 * draw()
        if step:
            a = round(a / step) * step
        b = math.sin(a) + 0.3 * a + 0.8 * (draw() - 0.5)
        w = round(0.5 + 2 * draw(), 2)
        out.append((round(a, 4), round(b, 4), w))
    out[3] = (out[3][0], out[3][1] + 6.0, out[3][2])  # One far out.
    return [list(c) for c in zip(*out)]


def row_of(x, at, near, weights, trust):
    """The weights by which the smooth at `at` takes y."""
    d = np.abs(x - at)
    reach = np.sort(d)[near - 1]
    k = np.where(d < reach, (1 - (d / reach) ** 3) ** 3, 0.0) if reach > 0 else (d == 0) * 1.0
    w = k * weights * trust
    root = np.sqrt(w)
    design = np.column_stack([np.ones_like(x), x - at]) * root[:, None]
    used = w > 0
    if len(set(x[used])) < 2:
        return w / w.sum()
    # e1' (D'D)^-1 D' W^(1/2), by a pseudo-inverse.
    return np.linalg.pinv(design, rcond=1e-13)[0] * root


def smooth(x, y, span, weights=None, robust=0):
    x, y = np.array(x), np.array(y)
    w = np.ones_like(x) if weights is None else np.array(weights)
    near = max(4, min(len(x), int(span * len(x))))
    places = np.unique(x)
    trust = np.ones_like(x)
    for turn in range(robust + 1):
        operator = np.array([row_of(x, at, near, w, trust) for at in places])
        fitted = operator @ y
        if turn < robust:
            rest = np.abs(y - fitted[np.searchsorted(places, x)])
            u = rest / (6 * np.median(rest))
            trust = np.where(u < 1, (1 - u * u) ** 2, 0.0)
    full = operator[np.searchsorted(places, x)]
    eye = np.eye(len(x))
    delta = np.trace((eye - full) @ (eye - full).T)
    rest = y - full @ y
    se = np.sqrt(rest @ rest / delta * (operator ** 2).sum(axis=1))
    return {"x": places.tolist(), "y": fitted.tolist(), "se": se.tolist(), "df": float(delta)}


def weighted_summary(x, w):
    x, w = np.array(x), np.array(w)
    order = np.argsort(x, kind="stable")
    x, w = x[order], w[order]
    n, total = len(x), w.sum()
    mean = (w * x).sum() / total
    m = [(w * (x - mean) ** k).sum() / total for k in range(5)]
    middles = np.cumsum(w) - w / 2
    places = (middles - middles[0]) / (middles[-1] - middles[0])
    return {"mean": mean, "sd": math.sqrt(m[2] * n / (n - 1)), "skewness": m[3] / m[2] ** 1.5,
            "kurtosis": m[4] / m[2] ** 2 - 3,
            "quartiles": [float(np.interp(p, places, x)) for p in (0.25, 0.5, 0.75)]}


def design():
    """Three strata, one with a lonely cluster; two rows out of the part."""
    draw = generator(77)
    rows = []
    for s, clusters in enumerate([4, 3, 1]):
        for c in range(clusters):
            for _ in range(2 + (s + c) % 3):
                x = 3 + s + 2 * c * (0.4 + draw()) + draw()
                rows.append({"stratum": s + 1, "cluster": 10 * (s + 1) + c,
                             "weight": round(1 + 3 * draw(), 2), "x": round(x, 3),
                             "z": round(0.7 * x + 2 * draw(), 3), "in": 1})
    rows[2]["in"] = 0
    rows[9]["in"] = 0
    # A whole cluster out of the part still counts in its stratum.
    for row in rows:
        if row["cluster"] == 12:
            row["in"] = 0
    return rows


def design_variance(rows, score, population=None):
    """Σ over strata of n/(n − 1) Σ (cluster sum − mean)², a lonely cluster about zero."""
    k = len(score(rows[0]))
    meat = np.zeros((k, k))
    for stratum in sorted({r["stratum"] for r in rows}):
        sums = {}
        for r in rows:
            if r["stratum"] == stratum:
                sums.setdefault(r["cluster"], np.zeros(k))
                if r["in"]:
                    sums[r["cluster"]] = sums[r["cluster"]] + np.array(score(r))
        values = np.array(list(sums.values()))
        n = len(values)
        centred = values - values.mean(axis=0) if n > 1 else values
        factor = (n / (n - 1) if n > 1 else 1) * (1 - n / population if population else 1)
        meat += factor * centred.T @ centred
    return meat


def design_values(rows):
    part = [r for r in rows if r["in"]]
    total = sum(r["weight"] for r in part)
    mean = sum(r["weight"] * r["x"] for r in part) / total
    score = lambda r: [r["weight"] * (r["x"] - mean) / total]
    clusters = len({r["cluster"] for r in rows})
    strata = len({r["stratum"] for r in rows})
    # Weighted line of z on x.
    x = np.array([r["x"] for r in part])
    z = np.array([r["z"] for r in part])
    w = np.array([r["weight"] for r in part])
    d = np.column_stack([np.ones_like(x), x])
    b = np.linalg.lstsq(d * np.sqrt(w)[:, None], z * np.sqrt(w), rcond=None)[0]
    bread = np.linalg.inv(d.T @ (d * w[:, None]))
    meat = design_variance(rows, lambda r: [r["weight"] * (r["z"] - b[0] - b[1] * r["x"]),
                                            r["weight"] * (r["z"] - b[0] - b[1] * r["x"]) * r["x"]])
    cov = bread @ meat @ bread
    at = np.array([1.0, 5.0])
    return {"rows": rows, "mean": mean, "df": clusters - strata, "n": len(part),
            "se": math.sqrt(design_variance(rows, score)[0, 0]),
            "se_of_20": math.sqrt(design_variance(rows, score, 20)[0, 0]),
            "effective": total ** 2 / sum(r["weight"] ** 2 for r in part),
            "line": {"slope": b[1], "at_5": float(at @ b), "se_at_5": math.sqrt(at @ cov @ at)}}


def curves(x, y):
    out = {}
    for degree in (1, 2):
        d = np.vander(np.array(x), degree + 1, increasing=True)
        b, *_ = np.linalg.lstsq(d, np.array(y), rcond=None)
        rest = np.array(y) - d @ b
        s2 = rest @ rest / (len(x) - degree - 1)
        at = np.array([7.0 ** k for k in range(degree + 1)])
        se = math.sqrt(s2 * at @ np.linalg.inv(d.T @ d) @ at)
        out[str(degree)] = {"at_7": float(at @ b), "se_at_7": se, "sigma": math.sqrt(s2)}
    return out


def series():
    draw = generator(5)
    e, out, other = 0.0, [], []
    for t in range(60):
        e = 0.6 * e + draw() - 0.5
        out.append(round(10 + 3 * e, 3))
        other.append(round(2 + (out[t - 2] if t >= 2 else 10) * 0.5 + draw(), 3))
    return out, other


def correlogram(x, lags):
    x = np.array(x) - np.mean(x)
    n = len(x)
    r = [float((x[k:] * x[:n - k]).sum() / (x * x).sum()) for k in range(lags + 1)]
    partial = []
    for k in range(1, lags + 1):
        toeplitz = np.array([[r[abs(i - j)] for j in range(k)] for i in range(k)])
        partial.append(float(np.linalg.solve(toeplitz, np.array(r[1:k + 1]))[-1]))
    q = n * (n + 2) * sum(r[k] ** 2 / (n - k) for k in range(1, 11))
    return {"r": r[1:], "partial": partial, "q": q,
            "p": float(mp.gammainc(5, q / 2, mp.inf, regularized=True))}


def cross(x, y, lags):
    x, y = np.array(x) - np.mean(x), np.array(y) - np.mean(y)
    n = len(x)
    scale = math.sqrt((x * x).sum() * (y * y).sum())
    out = []
    for k in range(-lags, lags + 1):
        # y with x k moments earlier.
        pairs = [(x[t - k], y[t]) for t in range(n) if 0 <= t - k < n]
        out.append(sum(a * b for a, b in pairs) / scale)
    return out


def wilson(p, n, z):
    """Ends of the interval as the roots of (p − q)² = z² q(1 − q)/n."""
    a, b, c = 1 + z * z / n, -(2 * p + z * z / n), p * p
    root = mp.sqrt(b * b - 4 * a * c)
    return [float((-b - root) / (2 * a)), float((-b + root) / (2 * a))]


def laws():
    def t_tail(t, df):
        return mp.betainc(mp.mpf(df) / 2, mp.mpf(1) / 2, 0, df / (df + mp.mpf(t) ** 2),
                          regularized=True) / 2
    def chi_tail(c, df):
        return mp.gammainc(mp.mpf(df) / 2, mp.mpf(c) / 2, mp.inf, regularized=True)
    def f_tail(f, a, b):
        return mp.betainc(mp.mpf(b) / 2, mp.mpf(a) / 2, 0, mp.mpf(b) / (b + a * mp.mpf(f)),
                          regularized=True)
    return {"normal_1_96": float(mp.erfc(mp.mpf("1.96") / mp.sqrt(2))),
            "t_2_20": float(2 * t_tail(2, 20)), "t_2_20_above": float(t_tail(2, 20)),
            "chi_9_4": float(chi_tail(9, 4)), "f_3_2_40": float(f_tail(3, 2, 40))}


def main():
    x, y, w = points(45, 11)
    tx, ty, tw = points(60, 12, 0.5)
    a, b = series()
    out = {
        "points": {"x": x, "y": y, "w": w}, "tied": {"x": tx, "y": ty, "w": tw},
        "smooth": smooth(x, y, 0.4), "smooth_tied": smooth(tx, ty, 0.5),
        "smooth_robust": smooth(x, y, 0.5, robust=3),
        "smooth_weighted": smooth(x, y, 0.6, weights=w),
        "weighted": weighted_summary(x, w), "design": design_values(design()), "curves": curves(x, y),
        "series": {"x": a, "y": b}, "correlogram": correlogram(a, 15), "cross": cross(a, b, 6),
        "wilson": {"p": 0.3, "n": 37, "z": 1.959963984540054,
                   "ends": wilson(mp.mpf("0.3"), 37, mp.mpf("1.959963984540054"))},
        "laws": laws(),
    }
    path = pathlib.Path(__file__).with_name("picture_reference.json")
    path.write_text(json.dumps(out, indent=1) + "\n")


main()
