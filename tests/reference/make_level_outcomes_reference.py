#!/usr/bin/env python3
"""Reference values for random effects of yes-no outcomes and counts: level_outcomes_reference.json.

One grouping: the likelihood of each group by the trapezoid rule over a wide grid (many points of
adaptive quadrature come to the same), or by adaptive quadrature as defined by Pinheiro & Bates
(1995) where few points are asked for. Several groupings: Laplace's approximation with dense
matrices over all effects at once. Maxima by quasi-Newton steps on numeric slopes, then Newton.
"""
import json
import math
import pathlib

import numpy as np
from scipy.optimize import minimize
from scipy.special import gammaln

rng = np.random.default_rng(41)


def log_density(kind, y, eta):
    if kind == "logit":
        return y * eta - np.logaddexp(0.0, eta)
    return y * eta - np.exp(eta) - gammaln(y + 1.0)


def first_second(kind, y, eta):
    if kind == "logit":
        p = 1.0 / (1.0 + np.exp(-eta))
        return y - p, p * (1.0 - p)
    m = np.exp(eta)
    return y - m, m


def factor(theta, q, full):
    L = np.zeros((q, q))
    if full:
        at = 0
        for c in range(q):
            for r in range(c, q):
                L[r, c] = theta[at]
                at += 1
    else:
        np.fill_diagonal(L, theta)
    return L


def mode(kind, y, base, Zt):
    """Of Z~u + base with u standard normal."""
    u = np.zeros(Zt.shape[1])
    for _ in range(200):
        r, w = first_second(kind, y, base + Zt @ u)
        H = Zt.T @ (w[:, None] * Zt) + np.eye(len(u))
        step = np.linalg.solve(H, Zt.T @ r - u)
        u = u + step
        if np.abs(step).max() < 1e-13:
            break
    r, w = first_second(kind, y, base + Zt @ u)
    return u, Zt.T @ (w[:, None] * Zt) + np.eye(len(u))


def deviance(case, params):
    kind, y, X = case["kind"], case["y"], case["X"]
    k = X.shape[1]
    base = X @ params[:k] + case.get("offset", 0.0)
    at = k
    Ls = []
    for level in case["levels"]:
        q = level["Z"].shape[1]
        many = q * (q + 1) // 2 if level["full"] else q
        Ls.append(factor(params[at:at + many], q, level["full"]))
        at += many
    if len(case["levels"]) > 1 or case["points"] == 1:
        blocks = []
        for level, L in zip(case["levels"], Ls):
            Zl = level["Z"] @ L
            for g in np.unique(level["of"]):
                rows = (level["of"] == g).astype(float)
                blocks.append(Zl * rows[:, None])
        Zt = np.hstack(blocks)
        u, H = mode(kind, y, base, Zt)
        value = log_density(kind, y, base + Zt @ u).sum() - 0.5 * u @ u - 0.5 * np.linalg.slogdet(H)[1]
        return -2.0 * value
    level, L = case["levels"][0], Ls[0]
    total = 0.0
    for g in np.unique(level["of"]):
        rows = level["of"] == g
        Zt = level["Z"][rows] @ L
        if case["points"] == 0:  # The trapezoid rule: exact to rounding for such integrands.
            grid = np.linspace(-12.0, 12.0, 1201)
            values = log_density(kind, y[rows][:, None], base[rows][:, None] + Zt * grid[None, :]).sum(axis=0)
            values += -0.5 * grid**2 - 0.5 * math.log(2.0 * math.pi)
            most = values.max()
            total += most + math.log(np.exp(values - most).sum() * (grid[1] - grid[0]))
            continue
        u, H = mode(kind, y[rows], base[rows], Zt)
        R = np.linalg.inv(np.linalg.cholesky(H)).T
        x, w = np.polynomial.hermite.hermgauss(case["points"])
        q = len(u)
        places = np.array(np.meshgrid(*[range(len(x))] * q, indexing="ij")).reshape(q, -1)
        at_ = u[:, None] + math.sqrt(2.0) * R @ x[places]
        values = (np.log(w[places]).sum(axis=0) + (x[places] ** 2).sum(axis=0) - 0.5 * (at_**2).sum(axis=0)
                  + log_density(kind, y[rows][:, None], base[rows][:, None] + Zt @ at_).sum(axis=0))
        most = values.max()
        total += (most + math.log(np.exp(values - most).sum()) + np.linalg.slogdet(R)[1]
                  + 0.5 * q * math.log(2.0) - 0.5 * q * math.log(2.0 * math.pi))
    return -2.0 * total


def slope(case, at, step=1e-5):
    out = np.zeros(len(at))
    for j in range(len(at)):
        to = np.array(at)
        sums = 0.0
        for shift, weight in ((1, 8.0), (-1, -8.0), (2, -1.0), (-2, 1.0)):
            to[j] = at[j] + shift * step * 30
            sums += weight * deviance(case, to)
        out[j] = sums / (12.0 * step * 30)
    return out


def highest(case, start):
    found = minimize(lambda p: deviance(case, p), start, jac=lambda p: slope(case, p), method="BFGS",
                     options={"gtol": 1e-7})
    at = found.x
    for _ in range(3):
        H = np.array([(slope(case, at + 1e-3 * e) - slope(case, at - 1e-3 * e)) / 2e-3 for e in np.eye(len(at))])
        at = at - np.linalg.solve(0.5 * (H + H.T), slope(case, at))
    H = np.array([(slope(case, at + 1e-3 * e) - slope(case, at - 1e-3 * e)) / 2e-3 for e in np.eye(len(at))])
    return at, np.linalg.inv(0.25 * (H + H.T))


def made(kind, groups, size, spread, slope_spread=0.0, outer=0, outer_spread=0.0):
    data = {name: [] for name in ("y", "x", "z", "g", "h")}
    outers = outer_spread * rng.standard_normal(max(outer, 1))
    for g in range(groups):
        level = spread * rng.standard_normal() + (outers[g % outer] if outer else 0.0)
        tilt = slope_spread * rng.standard_normal()
        for _ in range(size + g % 3):
            x, z = round(rng.standard_normal(), 3), round(rng.random(), 3)
            eta = -0.4 + (0.6 + tilt) * x + 0.5 * z + level
            y = float(rng.random() < 1.0 / (1.0 + math.exp(-eta))) if kind == "logit" else float(rng.poisson(math.exp(eta)))
            for name, value in zip(data, (y, x, z, float(g), float(g % outer) if outer else 0.0)):
                data[name].append(value)
    return data


def case_of(kind, data, points, slopes=False, full=True, nested=False):
    y, x, z = (np.array(data[name]) for name in ("y", "x", "z"))
    X = np.column_stack([np.ones(len(y)), x, z])
    Z = np.column_stack([np.ones(len(y)), x]) if slopes else np.ones((len(y), 1))
    levels = [{"of": np.array(data["g"]), "Z": Z, "full": full}]
    if nested:
        levels.append({"of": np.array(data["h"]), "Z": np.ones((len(y), 1)), "full": True})
    return {"kind": kind, "y": y, "X": X, "levels": levels, "points": points}


first, second, third, fourth = (made("logit", 24, 7, 0.9), made("poisson", 26, 7, 0.5, 0.5),
                                made("logit", 30, 6, 0.7, outer=6, outer_spread=0.8),
                                made("poisson", 20, 5, 0.6))
out = {"data": [first, second, third, fourth], "cases": []}
for name, data, case, points, start in [
        ("logit", 0, case_of("logit", first, 0), 25, [0, 0.5, 0.3, 0.8]),
        ("logit", 0, case_of("logit", first, 5), 5, [0, 0.5, 0.3, 0.8]),
        ("logit", 0, case_of("logit", first, 1), 1, [0, 0.5, 0.3, 0.8]),
        ("poisson", 1, case_of("poisson", second, 21, slopes=True), 21, [0, 0.5, 0.3, 0.5, 0.05, 0.3]),
        ("poisson", 1, case_of("poisson", second, 17, slopes=True, full=False), 17, [0, 0.5, 0.3, 0.5, 0.3]),
        ("logit", 2, case_of("logit", third, 1, nested=True), 9, [0, 0.5, 0.3, 0.6, 0.7]),
        ("poisson", 3, case_of("poisson", fourth, 0), 31, [0, 0.5, 0.3, 0.5])]:
    at, V = highest(case, np.array(start, dtype=float))
    k = 3
    variances, rest = [], at[k:]
    for level in case["levels"]:
        q = level["Z"].shape[1]
        many = q * (q + 1) // 2 if level["full"] else q
        L = factor(rest[:many], q, level["full"])
        variances.append((L @ L.T).tolist())
        rest = rest[many:]
    out["cases"].append({"outcome": name, "data": data, "points": points,
                         "slopes": case["levels"][0]["Z"].shape[1] > 1, "full": case["levels"][0]["full"],
                         "nested": len(case["levels"]) > 1, "b": at[:k].tolist(),
                         "se": np.sqrt(np.diag(V))[:k].tolist(), "covariances": variances,
                         "log_likelihood": -0.5 * deviance(case, at)})
    print(name, points, out["cases"][-1]["log_likelihood"], variances, flush=True)
pathlib.Path(__file__).with_name("level_outcomes_reference.json").write_text(json.dumps(out, indent=1) + "\n")
