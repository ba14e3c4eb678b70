#!/usr/bin/env python3
"""Reference values for choosing terms and for shape trials: terms_reference.json.

Subsets by fitting every one of them; the lasso by proximal steps with momentum to 1e-15 and a look
at the conditions of a minimum; parts by the same random numbers; double selection from its formulas;
shapes by fitting each with its Jacobian written out; Romano-Wolf by sorting the maxima of each set.
"""
import importlib.util
import itertools
import json
import math
import pathlib

import numpy as np
import scipy.stats as st

HERE = pathlib.Path(__file__).parent
spec = importlib.util.spec_from_file_location("effects", HERE / "make_effects_reference.py")
effects = importlib.util.module_from_spec(spec)
spec.loader.exec_module(effects)
Stream = effects.Stream


def data(n=120):
    rng = Stream(31, 0)
    uniform = lambda: (rng.next() >> 11) * 2.0**-53
    normal = lambda: st.norm.ppf(0.0005 + 0.999 * uniform())
    out = {k: [] for k in ("a", "b", "c", "d", "e", "f", "g", "w", "u", "y", "p")}
    for i in range(n):
        a, b, c = normal(), normal(), normal()
        d, e = 0.8 * a + 0.6 * normal(), normal()
        f = 3 + 2 * uniform()
        g = i % 4 + 1
        u = i // 6 + 1
        y = 1 + 0.9 * a - 0.5 * c + 0.4 * (g == 3) + 0.15 * (f - 4) ** 2 + 0.3 * d + normal()
        p = math.exp(0.4 + 0.25 * f + 0.3 * a + 0.4 * normal())
        for k, v in (("a", round(a, 4)), ("b", round(b, 4)), ("c", round(c, 4)), ("d", round(d, 4)),
                     ("e", round(e, 4)), ("f", round(f, 4)), ("g", g), ("u", u),
                     ("w", round(0.5 + 2 * uniform(), 2)), ("y", round(y, 4)), ("p", round(p, 4))):
            out[k].append(v)
    return out


def columns(d):
    g = np.array(d["g"])
    one = {k: [np.array(d[k], float)] for k in "abcdef"}
    one["g"] = [(g == 2) * 1.0, (g == 3) * 1.0, (g == 4) * 1.0]
    return one


def fit(X, y, w):
    A = X.T @ (w[:, None] * X)
    b = np.linalg.solve(A, X.T @ (w * y))
    e = y - X @ b
    return b, e, float(w @ e**2), A


def subsets(d, weighted):
    cols, y = columns(d), np.array(d["y"])
    n = len(y)
    w = np.array(d["w"]) if weighted else np.ones(n)
    names = list(cols)
    full_X = np.column_stack([np.ones(n)] + [c for k in names for c in cols[k]])
    sigma2 = fit(full_X, y, w)[2] / (n - full_X.shape[1])
    mean = w @ y / w.sum()
    tss = float(w @ (y - mean) ** 2)
    rows = []
    for size in range(len(names) + 1):
        for chosen in itertools.combinations(names, size):
            X = np.column_stack([np.ones(n)] + [c for k in chosen for c in cols[k]])
            b, e, rss, A = fit(X, y, w)
            k = X.shape[1]
            p = k + 1
            l2 = n * (math.log(2 * math.pi * rss / n) + 1) - np.log(w).sum()
            h = w * np.einsum("ij,ij->i", X @ np.linalg.inv(A), X)
            press = math.sqrt(w @ (e / (1 - h)) ** 2 / w.sum())
            rows.append({"terms": list(chosen), "k": k, "rss": rss, "aic": l2 + 2 * p,
                         "aicc": l2 + 2 * p + 2 * p * (p + 1) / (n - p - 1), "bic": l2 + p * math.log(n),
                         "cp": rss / sigma2 - n + 2 * k,
                         "adjusted": 1 - (rss / (n - k)) / (tss / (n - 1)), "loo": press})
    best = {}
    for r in rows:
        if r["k"] not in best or r["rss"] < best[r["k"]]["rss"]:
            best[r["k"]] = r
    out = {"sizes": [best[k] for k in sorted(best)], "possible": len(rows)}
    for key in ("aic", "aicc", "bic", "cp", "loo"):
        out["best " + key] = min(rows, key=lambda r: r[key])
    out["best adjusted"] = max(rows, key=lambda r: r["adjusted"])
    return out


def lasso(G, c, penalty):
    """Accelerated proximal steps, restarted, to the last bits; then the signs' own equations."""
    step = 1 / np.linalg.eigvalsh(G)[-1]
    b = z = np.zeros(len(c))
    t = 1.0
    for _ in range(200000):
        v = z + step * (c - G @ z)
        new = np.sign(v) * np.maximum(np.abs(v) - step * penalty, 0)
        if (z - new) @ (new - b) > 0:
            t, z = 1.0, new
        t1 = (1 + math.sqrt(1 + 4 * t * t)) / 2
        z = new + (t - 1) / t1 * (new - b)
        done = np.abs(new - b).max() < 1e-15
        b, t = new, t1
        if done:
            break
    on = (b != 0) | (penalty == 0)
    if on.any():
        b = b.copy()
        b[on] = np.linalg.solve(G[np.ix_(on, on)], (c - penalty * np.sign(b))[on])
    grad = c - G @ b
    assert np.all(np.abs(grad[~on]) <= penalty[~on] + 1e-11), "not a minimum"
    return b


def path(d, clustered, held=()):
    cols, y = columns(d), np.array(d["y"])
    n = len(y)
    names = [k for k in cols for _ in cols[k]]
    X = np.column_stack([c for k in cols for c in cols[k]])
    Z = np.column_stack([X, y])
    Z = Z - Z.mean(0)
    sd = Z.std(0)
    Z = Z / sd
    units = np.array(d["u"]) - 1 if clustered else np.arange(n)
    count = units.max() + 1
    rng = Stream(5, 0)
    order = sorted((rng.next(), u) for u in range(count))
    part_of = np.empty(count, int)
    for i, (_, u) in enumerate(order):
        part_of[u] = i % 10
    part = part_of[units]
    free = np.array([k not in held for k in names])

    def cov(rows):
        V = Z[rows] - Z[rows].mean(0)
        return V.T @ V / len(V)

    C = cov(np.arange(n))
    p = len(names)
    start = lasso(C[:p, :p], C[:p, p], np.where(free, 1e9, 0.0))
    top = np.abs((C[:p, p] - C[:p, :p] @ start)[free]).max()
    lam = top * 1e-3 ** (np.arange(100) / 99)
    whole = np.array([lasso(C[:p, :p], C[:p, p], np.where(free, l, 0)) for l in lam[::9]])
    errors = np.empty((10, 100))
    for q in range(10):
        train, test = np.where(part != q)[0], np.where(part == q)[0]
        T = cov(train)
        m = Z[train].mean(0)
        for i, l in enumerate(lam):
            b = lasso(T[:p, :p], T[:p, p], np.where(free, l, 0))
            guess = m[p] + (Z[test, :p] - m[:p]) @ b
            errors[q, i] = np.mean((Z[test, p] - guess) ** 2)
    share = np.array([(part == q).mean() for q in range(10)])
    mean = share @ errors
    se = np.sqrt(share @ (errors - mean) ** 2 / 9)
    best = int(mean.argmin())
    one = best
    while one > 0 and mean[one - 1] <= mean[best] + se[best]:
        one -= 1
    return {"lambda": list(lam * sd[p]), "coefficients": (whole * sd[p] / sd[:p]).tolist(),
            "free": free.tolist(), "error": list(mean * sd[p] ** 2), "se": list(se * sd[p] ** 2),
            "best": best, "one": one}


def double(d, of, clustered):
    cols, y = columns(d), np.array(d["y"])
    n = len(y)
    names = [k for k in cols if k != of for _ in cols[k]]
    X = np.column_stack([c for k in cols if k != of for c in cols[k]])
    X = X - X.mean(0)
    X = X / np.sqrt((X**2).mean(0))
    gamma = 0.1 / math.log(n)
    mult = 1.1 / math.sqrt(n) * st.norm.ppf(1 - gamma / (2 * X.shape[1]))
    u = np.array(d["u"])

    def load(e):
        if clustered:
            return np.sqrt(sum((X[u == g].T @ e[u == g]) ** 2 for g in set(u)) / n)
        return np.sqrt((X**2).T @ e**2 / n)

    def chosen(v):
        v = v - v.mean()
        v = v / math.sqrt((v**2).mean())
        e, kept = v, []
        loads = load(e)
        for _ in range(15):
            b = lasso(X.T @ X / n, X.T @ v / n, mult * loads)
            kept = [j for j in range(len(b)) if b[j] != 0]
            e = v if not kept else v - X[:, kept] @ np.linalg.lstsq(X[:, kept], v, rcond=None)[0]
            new = load(e)
            done = np.abs(new - loads).max() <= 1e-8 * loads.max()
            loads = new
            if done:
                break
        return sorted({names[j] for j in kept})

    return {"outcome": chosen(y), "term": sorted(set().union(*[chosen(c) for c in cols[of]]))}


def shapes(d):
    """The outcome p under three rungs and the term f as a square, a logarithm and a spline."""
    p, f, a = (np.array(d[k]) for k in ("p", "f", "a"))
    n = len(p)
    rungs = {"ln": (np.log(p), np.exp, -np.log(p)), "one": (p, lambda z: z, 0 * p),
             "root": (np.sqrt(p), lambda z: np.maximum(z, 0) ** 2, math.log(0.5) - 0.5 * np.log(p))}

    def measure(z, back, log_slope, X):
        b, e, rss, _ = fit(X, z, np.ones(n))
        k = X.shape[1]
        aic = n * (math.log(2 * math.pi * rss / n) + 1) + 2 * (k + 1) - 2 * log_slope.sum()
        sorted_e = np.sort(e)
        m = min(n, 200)
        places = sorted_e[np.array([int((i + 0.5) * n / m) for i in range(m)])]
        guess = np.array([back(v + places).mean() if back(2.0) != 2.0 else v for v in X @ b])
        return {"aic": aic, "error": math.sqrt(np.mean((p - guess) ** 2)), "k": k}

    line = np.column_stack([np.ones(n), f, a])
    out = {"outcome " + k: measure(*v, line) for k, v in rungs.items()}
    z = rungs["ln"]
    out["term ln"] = measure(*z, np.column_stack([np.ones(n), np.log(f), a]))
    out["term square"] = measure(*z, np.column_stack([np.ones(n), f, f**2, a]))
    knots = []
    for q in (0.1, 0.5, 0.9):
        v = float(np.quantile(f, q))
        unit = 10 ** (math.floor(math.log10(abs(v))) - 3)
        knots.append(round(v / unit) * unit)
    t1, t2, t3 = knots
    cube = lambda t: np.maximum(f - t, 0) ** 3
    s = (cube(t1) - cube(t2) * (t3 - t1) / (t3 - t2) + cube(t3) * (t2 - t1) / (t3 - t2)) / (t3 - t1) ** 2
    out["term spline"] = measure(*z, np.column_stack([np.ones(n), f, s, a]))
    return out


def romano_wolf(d, draws=999):
    """Rows drawn with the product's random numbers; each set's largest |t| looked at by itself."""
    y = np.array(d["y"])
    X = np.column_stack([np.ones(len(y))] + [np.array(d[k]) for k in "abcde"])
    n, k = X.shape
    b, *_ = fit(X, y, np.ones(n))
    B = []
    for r in range(draws):
        rng = Stream(77, r)
        rows = [rng.below(n) for _ in range(n)]
        B.append(fit(X[rows], y[rows], np.ones(n))[0])
    B = np.array(B)
    se = B.std(0, ddof=1)
    t = np.abs(b / se)[1:]
    T = np.abs((B - B.mean(0)) / se)[:, 1:]
    order = sorted(range(k - 1), key=lambda j: -t[j])
    p, floor = np.empty(k - 1), 0.0
    for i, j in enumerate(order):
        still = order[i:]
        raw = ((T[:, still].max(1) >= t[j]).sum() + 1) / (draws + 1)
        floor = max(floor, raw)
        p[j] = floor
    return list(p)


def envelope_free(d):
    """Without each row, by refitting: the estimate of a, and which row moves it most."""
    y = np.array(d["y"])
    w = np.array(d["w"])
    X = np.column_stack([np.ones(len(y))] + [np.array(d[k]) for k in "ac"])
    out = []
    for i in range(len(y)):
        keep = np.arange(len(y)) != i
        out.append(fit(X[keep], y[keep], w[keep])[0][1])
    return out


if __name__ == "__main__":
    d = data()
    result = {"data": d, "subsets": subsets(d, False), "weighted subsets": subsets(d, True),
              "lasso": path(d, False), "clustered lasso": path(d, True, held=("b",)),
              "double": double(d, "d", False), "clustered double": double(d, "d", True),
              "shapes": shapes(d), "romano wolf": romano_wolf(d), "without": envelope_free(d)}
    (HERE / "terms_reference.json").write_text(json.dumps(result) + "\n")
