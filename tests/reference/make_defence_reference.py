#!/usr/bin/env python3
"""Reference values for what defends an effect and for forecasts: defence_reference.json.

Lots: every arrangement is refitted by least squares, and the interval is where the p of outcome
less effect times cause crosses alpha, found by bisection. Bounds: the outcome that is not seen goes
through all its extreme combinations; those seen either way by Lee (2009), with his errors as
printed. Forecasts: the recursion itself, its gradient by complex steps, its shocks one by one.
"""
import itertools
import json
import math
import pathlib

import numpy as np
from scipy import optimize, stats

random = np.random.default_rng(20261201)


def fit(y, X, w=None):
    w = np.ones(len(y)) if w is None else w
    A = np.linalg.pinv(X.T @ (w[:, None] * X), rcond=1e-12)  # A lot may say what the others say.
    return A @ X.T @ (w * y), A


def rest(v, X, w=None):
    return v - X @ fit(v, X, w)[0]


def loudness(y, cause, X, w=None):
    """What the cause adds to the squares that the others tell."""
    w = np.ones(len(y)) if w is None else w
    without = rest(y, X, w)
    both = rest(y, np.column_stack([X, cause]), w)
    return float(w @ without**2 - w @ both**2)


def distinct(labels):
    """Every different order of some labels."""
    if not labels:
        yield ()
    for first in sorted(set(labels)):
        left = list(labels)
        left.remove(first)
        for others in distinct(left):
            yield (first, *others)


def arrangements(labels, units, strata):
    """Every way to give the labels of a stratum to its units."""
    groups = [[u for u in units if strata[u] == s] for s in sorted(set(strata.values()))]
    ways = []
    for group in groups:
        own = [labels[u] for u in group]
        ways.append([dict(zip(group, one)) for one in distinct(own)])
    for parts in itertools.product(*ways):
        out = {}
        for part in parts:
            out.update(part)
        yield out


def p_of(y, X, causes, own, w=None, tie=1e-9):
    first = loudness(y, own, X, w)
    return sum(loudness(y, one, X, w) >= first * (1 - tie) for one in causes) / len(causes)


def lots_case(name, y, cause, X, unit, stratum, data, request, w=None, groups=None):
    units = sorted(set(unit))
    strata = {u: stratum[list(unit).index(u)] for u in units}
    if groups is None:
        labels = {u: cause[list(unit).index(u)] for u in units}
        made = [np.array([one[u] for u in unit], float) for one in arrangements(labels, units, strata)]
        own = np.asarray(cause, float)
    else:
        labels = {u: groups[list(unit).index(u)] for u in units}
        levels = sorted(set(groups))[1:]
        made = [np.column_stack([[1.0 * (one[u] == l) for u in unit] for l in levels])
                for one in arrangements(labels, units, strata)]
        own = np.column_stack([[1.0 * (g == l) for g in groups] for l in levels])
    out = {"name": name, "data": data, "request": request, "lots": len(made), "p": p_of(y, X, made, own, w)}
    if groups is None:
        b = fit(y, np.column_stack([X, own]), w)[0][-1]
        out["estimate"] = float(b)
        alpha = 0.05

        def above(tau):
            return p_of(y - tau * own, X, made, own, w, 1e-13) - alpha - 1e-12

        for side, key in ((1, "high"), (-1, "low")):
            far = b + side * 20 * abs(b) + side * 10
            if above(far) > 0:
                out[key] = None
                continue
            near, away = b, far
            for _ in range(60):
                middle = 0.5 * (near + away)
                near, away = (middle, away) if above(middle) > 0 else (near, middle)
            out[key] = float(near)
    return out


def lots():
    cases = []
    n = 10
    z = random.normal(size=n)
    d = np.array([1, 0, 1, 0, 1, 0, 1, 0, 1, 0.0])
    y = 1 + 0.9 * d + 0.5 * z + 0.4 * random.normal(size=n)
    one = np.ones(n)
    rows = list(range(n))
    data = {"y": y.tolist(), "d": d.tolist(), "z": z.tolist()}
    cases.append(lots_case("rows", y, d, np.column_stack([one, z]), rows, [0] * n, data, {"of": "d"}))
    s = [0, 0, 0, 0, 0, 1, 1, 1, 1, 1]
    cases.append(lots_case("within", y, d, np.column_stack([one, z]), rows, s, {**data, "s": s},
                           {"of": "d", "within": ["s"]}))
    w = random.uniform(0.5, 2, size=n)
    cases.append(lots_case("weights", y, d, np.column_stack([one, z]), rows, [0] * n,
                           {**data, "w": w.tolist()}, {"of": "d"}, w))
    dose = np.array([0, 1, 2, 0, 1, 2, 3.0])
    yd = 0.3 * dose + 0.3 * random.normal(size=7)
    cases.append(lots_case("dose", yd, dose, np.ones((7, 1)), list(range(7)), [0] * 7,
                           {"y": yd.tolist(), "d": dose.tolist()}, {"of": "d"}))
    # Groups draw one lot; two of them are held fixed beside.
    v = np.repeat(np.arange(8), 3)
    m = 24
    dv = np.array([1, 1, 0, 0, 1, 0, 1, 0.0])[v]
    zv = random.normal(size=m)
    f = np.array([0, 0, 0, 0, 1, 1, 1, 1])[v]
    yv = 0.7 * dv + 0.4 * zv + 0.5 * f + random.normal(size=8)[v] * 0.3 + 0.5 * random.normal(size=m)
    Xv = np.column_stack([np.ones(m), zv])
    data = {"y": yv.tolist(), "d": dv.tolist(), "z": zv.tolist(), "v": v.tolist(), "f": f.tolist(),
            "t": list(range(3)) * 8}
    cases.append(lots_case("groups of rows", yv, dv, Xv, v.tolist(), [0] * m, data, {"of": "d", "by": "v"}))
    held = np.column_stack([1.0 * (f == k) for k in (0, 1)])
    cases.append(lots_case("held fixed", yv, dv, np.column_stack([held, zv]), v.tolist(), [0] * m, data,
                           {"of": "d", "by": "v", "fixed": ["f"]}))
    t = np.tile(np.arange(3), 8)
    twice = np.column_stack([held, *[1.0 * (t == k) for k in (1, 2)], zv])
    cases.append(lots_case("held fixed twice", yv, dv, twice, v.tolist(), [0] * m, data,
                           {"of": "d", "by": "v", "fixed": ["f", "t"]}))
    # A grouping of three.
    g = [0, 1, 2, 0, 1, 2, 0, 1, 2]
    yg = 0.8 * np.array([0, 1, 0] * 3) + random.normal(size=9)
    cases.append(lots_case("grouping", yg, None, np.ones((9, 1)), list(range(9)), [0] * 9,
                           {"y": yg.tolist(), "g": g}, {"of": "g"}, None, g))
    return cases


def courses():
    """Units of a panel exchange their whole courses."""
    units, moments = 6, 4
    path = np.array([[0, 0, 1, 1], [0, 0, 0, 1], [0, 0, 0, 0], [0, 1, 1, 1], [0, 0, 0, 0], [0, 0, 1, 1.0]])
    u = np.repeat(np.arange(units), moments)
    t = np.tile(np.arange(moments), units)
    d = path[u, t]
    y = 0.8 * d + random.normal(size=units)[u] + 0.2 * t + 0.5 * random.normal(size=units * moments)
    X = np.column_stack([*[1.0 * (u == k) for k in range(units)], *[1.0 * (t == k) for k in range(1, moments)]])
    made = [path[list(order)][u, t] for order in itertools.permutations(range(units))]
    keys = {tuple(one) for one in made}
    made = [np.array(one) for one in sorted(keys)]
    return {"data": {"y": y.tolist(), "d": d.tolist(), "u": u.tolist(), "t": t.tolist()}, "lots": len(made),
            "p": p_of(y, X, made, d), "estimate": float(fit(y, np.column_stack([X, d]))[0][-1])}


def worst():
    n = 60
    z = random.normal(size=n)
    d = (random.uniform(size=n) < 0.5).astype(float)
    y = 2 + 0.8 * d + 0.5 * z + random.normal(size=n)
    unseen = [3, 11, 20, 34, 47, 58]
    low, high = min(np.delete(y, unseen)), max(np.delete(y, unseen))
    X = np.column_stack([np.ones(n), d, z])
    effects = []
    for ends in itertools.product((low, high), repeat=len(unseen)):
        filled = y.copy()
        filled[unseen] = ends
        b, A = fit(filled, X)
        e = filled - X @ b
        effects.append((b[1], math.sqrt(e @ e / (n - 3) * A[1, 1])))
    lower, upper = min(effects), max(effects)
    gap = (upper[0] - lower[0]) / max(lower[1], upper[1])
    law = stats.t(n - 3)
    c = optimize.brentq(lambda c: law.cdf(c + gap) - law.cdf(-c) - 0.95, 0.5, 5)
    cells = [None if i in unseen else float(v) for i, v in enumerate(y)]
    return {"data": {"y": cells, "d": d.tolist(), "z": z.tolist()}, "lower": lower, "upper": upper,
            "low": lower[0] - c * lower[1], "high": upper[0] + c * upper[1]}


def either_way():
    n = 200
    d = (random.uniform(size=n) < 0.5).astype(float)
    y = 1 + 0.5 * d + random.normal(size=n)
    seen = random.uniform(size=n) < 0.6 + 0.25 * d
    treated, control = y[seen & (d == 1)], y[seen & (d == 0)]
    n1, n0 = (d == 1).sum(), (d == 0).sum()
    a1, a0 = len(treated) / n1, len(control) / n0
    p = (a1 - a0) / a1
    out = {"data": {"y": [float(v) if s else None for v, s in zip(y, seen)], "d": d.tolist()},
           "trimmed": p, "seen_with": a1, "seen_without": a0}
    share = n1 / n
    for key, values in (("lower", np.sort(treated)), ("upper", -np.sort(-treated))):
        size = (1 - p) * len(treated)
        w = np.clip(size - np.arange(len(treated)), 0, 1)
        mean = w @ values / size
        cut = values[w > 0][-1]
        spread = w @ (values - mean) ** 2 / size
        ofp = (1 - p) ** 2 * ((1 - a1) / (share * a1) + (1 - a0) / ((1 - share) * a0))
        kept = a1 * share * (1 - p)
        v = spread / kept + (cut - mean) ** 2 * p / kept + ((cut - mean) / (1 - p)) ** 2 * ofp
        v += control.var() / (a0 * (1 - share))
        out[key] = [float(mean - control.mean()), math.sqrt(v / n)]
    return out


def recursion(beta, rho, rows, past, left, shocks):
    """y_h = const + a x_h + f y_{h-1} + u_h, u_h = rho u_{h-1} + e_h."""
    out, u, y = [], left, past
    for x, e in zip(rows, shocks):
        u = rho * u + e
        y = beta[0] + beta[1] * x + beta[2] * y + u
        out.append(y)
    return np.array(out)


def forecast():
    n, ahead = 80, 6
    x = random.normal(size=n)
    y = np.zeros(n)
    for t in range(n):
        y[t] = 1 + 0.7 * x[t] + (0.5 * y[t - 1] if t else 0) + 0.6 * random.normal()
    X = np.column_stack([np.ones(n - 1), x[1:], y[:-1]])
    b, A = fit(y[1:], X)
    e = y[1:] - X @ b
    sigma2 = e @ e / (n - 4)
    to_come = [0.3, -0.2, 0.5, 0.5, 0.5, 0.5]
    none = np.zeros(ahead)
    values = recursion(b, 0.0, to_come, y[-1], 0.0, none)
    gradient = np.zeros((ahead, 3))
    for j in range(3):
        moved = b.astype(complex)
        moved[j] += 1e-30j
        gradient[:, j] = recursion(moved, 0.0, to_come, y[-1], 0.0, none).imag / 1e-30
    psi = np.zeros((ahead, ahead))
    for j in range(ahead):
        shock = none.copy()
        shock[j] = 1
        psi[:, j] = recursion(b, 0.0, to_come, y[-1], 0.0, shock) - values
    variance = np.einsum("hi,ij,hj->h", gradient, sigma2 * A, gradient)
    scatter = np.sqrt(variance + sigma2 * (psi**2).sum(axis=1))
    t = stats.t(n - 4).ppf(0.975)
    return {"data": {"y": y.tolist(), "x": x.tolist(), "m": list(range(1, n + 1))}, "to_come": to_come[:3],
            "values": values.tolist(), "se": np.sqrt(variance).tolist(),
            "row_low": (values - t * scatter).tolist(), "row_high": (values + t * scatter).tolist()}


def sizes():
    out = []
    for se, df, effect, power, n in ((0.1, 57, 0.2, 0.8, 60), (0.1, 57, 0.4, 0.9, 60), (2.0, 1000, 1.0, 0.8, 1003)):
        def short(times):
            law = stats.t(max(df * times, 1))
            return law.cdf(effect / se * math.sqrt(times) - law.ppf(0.975)) - power
        times = optimize.brentq(short, 1e-3, 1e4, xtol=1e-13)
        here = stats.t(df).cdf(effect / se - stats.t(df).ppf(0.975))
        out.append({"se": se, "df": df, "effect": effect, "power": power, "n": n,
                    "rows": math.ceil(times * n * (1 - 1e-9)), "here": here})
    return out


out = {"lots": lots(), "courses": courses(), "worst": worst(), "either_way": either_way(),
       "forecast": forecast(), "sizes": sizes()}
path = pathlib.Path(__file__).with_name("defence_reference.json")
path.write_text(json.dumps(out, indent=1) + "\n")
