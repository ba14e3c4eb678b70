#!/usr/bin/env python3
"""Reference values for quantiles and robust fits: robust_reference.json.

Quantiles by scipy's linear programming on the primal (simplex, exact vertices), errors from their
definitions; robust fits by fixed-point iteration of the estimating equations from many starts, the
smallest scale kept. Three data sets: one clean, one with odd rows, one awkward (ties, weights, few
rows).
"""
import json
import math
import pathlib

import numpy as np
import scipy.optimize as so
import scipy.stats as st

from make_checks_reference import generator, normal

KINDS = ("clean", "odd", "awkward")


def data(kind):
    draw = generator({"clean": 91, "odd": 92, "awkward": 93}[kind])
    n = {"clean": 120, "odd": 150, "awkward": 30}[kind]
    out = {name: [] for name in ("y", "x", "z", "w", "c")}
    for i in range(n):
        x = round(normal(draw), 1 if kind == "awkward" else 3)
        z = float(i % 2) if kind == "awkward" else round(normal(draw), 3)
        y = 1 + 0.8 * x - 0.5 * z + (0.5 + 0.3 * abs(x)) * normal(draw)
        if kind == "odd" and i % 8 == 0:
            y += 12 if i % 16 else -15
            x += 1.5
        if kind == "awkward":
            y = float(round(2 * y)) / 2
        for name, value in zip(out, (y, x, z, 0.5 + draw(), i // 5 + 1)):
            out[name].append(round(float(value), 4))
    return out


def design(d):
    a = {k: np.array(v) for k, v in d.items()}
    return a, np.column_stack([np.ones(len(a["y"])), a["x"], a["z"]])


def programme(X, y, tau, w):
    n, k = X.shape
    c = np.concatenate([np.zeros(2 * k), tau * w, (1 - tau) * w])
    A = np.hstack([X, -X, np.eye(n), -np.eye(n)])
    found = so.linprog(c, A_eq=A, b_eq=y, bounds=(0, None), method="highs-ds")
    return found.x[:k] - found.x[k:2 * k], float(found.fun)


def sample_quantile(v, p):
    return float(np.quantile(v, p, method="linear"))


def quantiles():
    out = {}
    for kind in KINDS:
        d = data(kind)
        a, X = design(d)
        n, k = X.shape
        one = {"data": d, "points": {}}
        for weighted in ((False, True) if kind == "awkward" else (False,)):
            w = a["w"] / a["w"].mean() if weighted else np.ones(n)
            for tau in (0.1, 0.25, 0.5, 0.8):
                b, objective = programme(X, a["y"], tau, w)
                r = a["y"] - X @ b
                r[np.abs(r) < 1e-9] = 0
                z = st.norm.ppf(tau)
                f = st.norm.pdf(z)
                h = n ** (-1 / 3) * st.norm.ppf(0.975) ** (2 / 3) * (1.5 * f * f / (2 * z * z + 1)) ** (1 / 3)
                h = min(h, 0.999 * min(tau, 1 - tau))
                sparsity = (sample_quantile(r, tau + h) - sample_quantile(r, tau - h)) / (2 * h)
                inverse = np.linalg.inv(X.T @ (w[:, None] * X))
                meat = X.T @ ((w * w)[:, None] * X)
                V = tau * (1 - tau) * sparsity ** 2 * inverse @ meat @ inverse
                c = min(r.std(ddof=1), (sample_quantile(r, 0.75) - sample_quantile(r, 0.25)) / 1.349) * (st.norm.ppf(tau + h) - st.norm.ppf(tau - h))
                while True:
                    D = X.T @ ((w * (np.abs(r) <= c) / (2 * c))[:, None] * X)
                    unit = np.sqrt(np.diag(D))
                    if unit.min() > 0 and np.linalg.eigvalsh(D / np.outer(unit, unit)).min() > 1e-8:
                        break
                    c *= 1.5
                bread = np.linalg.inv(D)
                S = X * (w * (tau - (r < 0)))[:, None]
                groups = np.unique(a["c"])
                sums = np.array([S[a["c"] == g].sum(0) for g in groups])
                G = len(groups)
                clustered = G / (G - 1) * (n - 1) / (n - k) * bread @ sums.T @ sums @ bread
                V0 = programme(np.ones((n, 1)), a["y"], tau, w)[1]
                se = lambda M: np.sqrt(np.diag(M)).tolist()
                one["points"][f"{tau}" + (" weighted" if weighted else "")] = {
                    "b": b.tolist(), "objective": objective, "classical": se(V),
                    "kernel": se(tau * (1 - tau) * bread @ meat @ bread), "clustered": se(clustered),
                    "goodness": 1 - objective / V0}
        out[kind] = one
    return out


def many():
    """Objectives on larger problems, ties and weights among them."""
    out = []
    for n, k, seed, ties in ((500, 4, 1, False), (2000, 8, 2, False), (5000, 5, 3, True), (3000, 6, 4, True)):
        state = seed
        def rand():
            nonlocal state
            state = (state * 6364136223846793005 + 1442695040888963407) % 2 ** 64
            return (state >> 11) / 2 ** 53
        X = np.ones((n, k))
        for i in range(n):
            for j in range(1, k):
                v = sum(rand() for _ in range(4)) - 2
                X[i, j] = round(v, 1) if ties else v
        y = np.zeros(n)
        w = np.ones(n)
        for i in range(n):
            e = sum(rand() for _ in range(4)) - 2
            y[i] = X[i].sum() + e * (1 + abs(X[i, 1]))
            if ties:
                y[i] = round(y[i], 1)
                w[i] = 0.5 + rand()
        for tau in (0.05, 0.5, 0.9):
            b, objective = programme(X, y, tau, w)
            out.append({"n": n, "k": k, "seed": seed, "ties": ties, "tau": tau, "b": b.tolist(), "objective": objective})
    return out


def huber(u, k):
    return np.clip(u, -k, k), (np.abs(u) <= k).astype(float), np.where(np.abs(u) <= k, 1, k / np.maximum(np.abs(u), 1e-300))


def bisquare(u, c):
    t = u / c
    inside = np.abs(t) < 1
    s = np.where(inside, 1 - t * t, 0)
    return u * s * s, np.where(inside, s * (1 - 5 * t * t), 0), s * s


def rho(u, c):
    t = np.minimum(np.abs(u / c), 1)
    return 1 - (1 - t * t) ** 3


def median_scale(e, w):
    a = np.abs(e)
    if w is None:
        return np.median(a) / 0.6745
    order = np.argsort(a, kind="stable")
    at = np.searchsorted(np.cumsum(w[order]), 0.5 * w.sum())
    return a[order][at] / 0.6745


def m_scale(e, w):
    ww = np.ones(len(e)) if w is None else w
    s = np.median(np.abs(e)) / 0.6745 + 1e-12
    for _ in range(2000):
        new = s * math.sqrt((ww * rho(e / s, 1.5476449809)).sum() / ww.sum() / 0.5)
        if abs(new - s) < 1e-15 * s:
            break
        s = new
    return s


def wls(X, y, w):
    return np.linalg.solve(X.T @ (w[:, None] * X), X.T @ (w * y))


def s_fit(X, y, w):
    rng = np.random.default_rng(5)
    best = (math.inf, None)
    ww = np.ones(len(y)) if w is None else w
    for _ in range(3000):
        rows = rng.choice(len(y), X.shape[1], replace=False)
        if abs(np.linalg.det(X[rows])) < 1e-6:
            continue
        b = np.linalg.solve(X[rows], y[rows])
        for _ in range(3):
            s = m_scale(y - X @ b, w)
            b = wls(X, y, ww * bisquare((y - X @ b) / s, 1.5476449809)[2] + 1e-300)
        s = m_scale(y - X @ b, w)
        if s < best[0]:
            best = (s, b)
    b = best[1]
    for _ in range(5000):
        s = m_scale(y - X @ b, w)
        new = wls(X, y, ww * bisquare((y - X @ b) / s, 1.5476449809)[2])
        done = np.abs(new - b).max() < 1e-15
        b = new
        if done:
            break
    return b, m_scale(y - X @ b, w)


def robust():
    out = {}
    for kind in KINDS:
        d = data(kind)
        a, X = design(d)
        n, k = X.shape
        y = a["y"]
        one = {"cases": {}}
        for weighted in ((False, True) if kind == "awkward" else (False,)):
            w = a["w"] / a["w"].mean() if weighted else None
            ww = np.ones(n) if w is None else w
            start, scale = s_fit(X, y, w)
            for name, curve, constant in (("huber", huber, 1.345), ("bisquare", bisquare, 4.685), ("mm", bisquare, 4.685064948543383)):
                b = wls(X, y, ww) if name == "huber" else start
                s = scale
                for _ in range(20000):
                    e = y - X @ b
                    if name != "mm":
                        s = median_scale(e, w)
                    new = wls(X, y, ww * curve(e / s, constant)[2])
                    done = np.abs(new - b).max() < 1e-15
                    b = new
                    if done:
                        break
                e = y - X @ b
                if name != "mm":
                    s = median_scale(e, w)
                psi, slope, weight = curve(e / s, constant)
                total = ww.sum()
                m = (ww * slope).sum() / total
                K = 1 + k / n * ((ww * (slope - m) ** 2).sum() / total) / m ** 2
                V = K * K * s * s * (ww * psi * psi).sum() / (n - k) / m ** 2 * np.linalg.inv(X.T @ (ww[:, None] * X))
                A = np.linalg.inv(X.T @ ((ww * slope)[:, None] * X))
                S = X * (ww * s * psi)[:, None]
                hc1 = n / (n - k) * A @ S.T @ S @ A
                one["cases"][name + (" weighted" if weighted else "")] = {
                    "b": b.tolist(), "scale": float(s), "classical": np.sqrt(np.diag(V)).tolist(),
                    "HC1": np.sqrt(np.diag(hc1)).tolist(), "weights": weight.tolist()}
        out[kind] = one
    return out


if __name__ == "__main__":
    here = pathlib.Path(__file__).parent
    result = {"quantile": quantiles(), "many": many(), "robust": robust()}
    (here / "robust_reference.json").write_text(json.dumps(result) + "\n")
