#!/usr/bin/env python3
"""Reference values for two equations joined by a correlation, and for outcomes between two ends:
joined_reference.json.

Likelihoods are written out from their definitions and maximised as in make_outcomes_reference.py.
Estimators in two steps are stacked moments: their errors come from one sandwich of all of them,
whose derivatives are taken by complex steps. Heckman's own errors of the second step are worked out
with full matrices from his formula.
"""
import json
import math
import pathlib

import numpy as np

from make_checks_reference import generator, normal
from make_outcomes_reference import KINDS, Model, normal_cdf


def data(kind):
    draw = generator({"clean": 121, "fails": 122, "awkward": 123}[kind])
    n = {"clean": 260, "fails": 320, "awkward": 70}[kind]
    out = {name: [] for name in ("y", "x", "z", "v", "m", "o", "k", "lo", "hi", "w", "c")}
    for i in range(n):
        x = round(normal(draw), 1 if kind == "awkward" else 3)
        z = round(normal(draw), 3)
        v = round(normal(draw), 3)
        e, u = normal(draw), normal(draw)
        rho = {"clean": 0.5, "fails": -0.7, "awkward": 0.3}[kind]
        joined = rho * e + math.sqrt(1 - rho * rho) * u
        y = 1 + 0.8 * x + 1.5 * e
        seen = 0.3 + 0.4 * x + 0.9 * z + joined > 0
        m = 0.5 + 0.6 * z - 0.5 * v + 0.3 * x + 1.2 * e
        o = float(-0.2 + 0.5 * x + 0.5 * m + joined > 0)
        mean = math.exp(0.2 + 0.3 * x + 0.2 * m + 0.3 * joined)
        u0, k, p = draw(), 0, math.exp(-mean)
        total = p
        while u0 > total and k < 400:
            k += 1
            p *= mean / k
            total += p
        width = 1.0 if kind != "fails" else 2.5
        lo, hi = math.floor(y / width) * width, math.floor(y / width) * width + width
        if i % 11 == 0:
            lo = hi = round(y, 2)
        elif hi > 3:
            hi = None
        elif lo < -1:
            lo = None
        row = (round(y, 3) if seen else None, x if seen or i % 3 else None, z, v, round(m, 3), o, k, lo, hi, round(0.5 + draw(), 3), i // 5 + 1)
        for name, value in zip(out, row):
            out[name].append(value)
    return out


def tail(z):
    return np.exp(-z * z / 2) / math.sqrt(2 * math.pi) / normal_cdf(z)


def stacked(moments, theta, w, clusters, last, n):
    """Errors of the last parameters: sandwich of the stacked moments (n x p)."""
    p = len(theta)
    A = np.zeros((p, p))
    for j in range(p):
        step = theta.astype(complex)
        step[j] += 1e-30j
        A[:, j] = (w[:, None] * moments(step).imag / 1e-30).sum(0)
    M = moments(theta.astype(complex)).real * w[:, None]
    inverse = np.linalg.inv(A)
    groups = np.array(clusters)
    sums = np.array([M[groups == g].sum(0) for g in np.unique(groups)])
    G = len(sums)
    k = len(last)
    out = {}
    for name, meat, factor in (("HC1", M.T @ M, n / (n - k)), ("clustered", sums.T @ sums, G / (G - 1) * (n - 1) / (n - k))):
        V = factor * inverse @ meat @ inverse.T
        out[name] = np.sqrt(np.diag(V))[last].tolist()
    return out


def spread_quantiles(kind):
    """Quantiles with effects held fixed: two regressions on all indicators, the place of a quantile
    as a root, errors from what each row moves the three of them by."""
    draw = generator({"clean": 131, "fails": 132, "awkward": 133}[kind])
    units = {"clean": 30, "fails": 40, "awkward": 9}[kind]
    d = {name: [] for name in ("y", "x", "z", "u", "t", "w")}
    for u in range(units):
        level = normal(draw)
        for t in range({"clean": 10, "fails": 7, "awkward": 6}[kind] + u % 3):
            x, z = round(abs(normal(draw)) + 0.3 * level, 3), float(draw() < 0.4)
            e = normal(draw) if kind != "fails" else -math.log(draw() + 1e-12) - 1
            y = round(1 + 0.7 * x - 0.4 * z + level + 0.1 * t + (1.5 + 0.5 * max(x, 0) + 0.3 * z) * e, 3)
            for name, value in zip(d, (y, x, z, u, t, round(0.5 + draw(), 3))):
                d[name].append(value)
    a = {name: np.array(v, dtype=float) for name, v in d.items()}
    n = len(a["y"])
    out = {"data": d, "cases": {}}
    for held, weighted in (("u", False), ("u t", False), ("u", True)):
        w = a["w"] / a["w"].mean() if weighted else np.ones(n)
        blocks = [(a[name][:, None] == np.unique(a[name])[None, :]).astype(float) for name in held.split()]
        G = np.hstack([blocks[0]] + [b[:, 1:] for b in blocks[1:]])
        X = np.column_stack([a["x"], a["z"]])
        full = np.hstack([X, G])
        root = np.sqrt(w)
        solve = lambda M, v: np.linalg.lstsq(M * root[:, None], (v.T * root).T, rcond=None)[0]
        left = lambda v: v - full @ solve(full, v)
        b = solve(full, a["y"])[:2]
        R = left(a["y"])
        share = (w * (R >= 0)).sum() / w.sum()
        D = 2 * R * ((R >= 0) - share)
        g = solve(full, D)[:2]
        e = left(D)
        s = D - e
        within = X - G @ solve(G, X)
        inverse = np.linalg.inv(within.T @ (w[:, None] * within))
        case = {"tau": [], "b": [], "HC1": [], "clustered": [], "flat": int((s <= 0).sum())}
        k = G.shape[1] + 2
        ok = s > 0
        for tau in (0.25, 0.5, 0.8):
            order = np.argsort(R[ok] / s[ok], kind="stable")
            sums = np.cumsum((w[ok] * s[ok])[order])
            total = sums[-1]
            q = (R[ok] / s[ok])[order][np.searchsorted(sums, tau * total)]
            u = R[ok] / s[ok]
            width = 0.9 * min(u.std(ddof=1), (np.quantile(u, 0.75) - np.quantile(u, 0.25)) / 1.34) * len(u) ** -0.2
            f = (w[ok] * np.exp(-0.5 * ((u - q) / width) ** 2)).sum() / (w[ok].sum() * width * math.sqrt(2 * math.pi))
            place = (np.where(ok, s, 0) * (tau - (R / np.where(ok, s, 1) <= q)) / f - R - q * e) / total
            psi = w[:, None] * ((R + q * e)[:, None] * (within @ inverse) + place[:, None] * g[None, :])
            # Means of columns that the constant takes up do not enter slopes.
            V = n / (n - k) * psi.T @ psi
            groups = [psi[a["u"] == v].sum(0) for v in np.unique(a["u"])]
            C = len(groups) / (len(groups) - 1) * (n - 1) / (n - 3) * sum(np.outer(v, v) for v in groups)
            case["tau"].append(tau)
            case["b"].append((b + q * g).tolist())
            case["HC1"].append(np.sqrt(np.diag(V)).tolist())
            case["clustered"].append(np.sqrt(np.diag(C)).tolist())
        out["cases"][held + (" weighted" if weighted else "")] = case
    return out


def main():
    out = {}
    for kind in KINDS:
        d = data(kind)
        a = {name: np.array([np.nan if v is None else v for v in values], dtype=float) for name, values in d.items()}
        n = len(a["w"])
        one = {"data": d, "cases": {}}
        for weighted in (False, True) if kind == "awkward" else (False,):
            w = a["w"] / a["w"].mean() if weighted else np.ones(n)
            name = " weighted" if weighted else ""
            seen = ~np.isnan(a["y"])
            y = np.where(seen, a["y"], 0.0)
            X = np.column_stack([np.ones(n), np.where(seen, np.nan_to_num(a["x"]), 0.0)])
            Z = np.column_stack([np.ones(n), a["z"], a["v"]])

            def heckman(t):
                eta, zeta, s, h = X @ t[:2], Z @ t[2:5], t[5], t[6]
                u = (y - eta) * np.exp(-s)
                rho = np.tanh(h)
                inner = (zeta + rho * u) / np.sqrt(1 - rho * rho)
                return np.where(seen, np.log(normal_cdf(inner)) - 0.5 * u * u - s - 0.5 * math.log(2 * math.pi), np.log(normal_cdf(-zeta)))

            m = Model(heckman, [1.0, 0.8, 0.3, 0.9, 0.0, 0.4, 0.2], w).fit()
            shown = np.r_[np.ones(5), math.exp(m.theta[5]), 1 - math.tanh(m.theta[6]) ** 2]
            case = m.out(a["c"], shown)
            probit = Model(lambda t: np.where(seen, np.log(normal_cdf(Z @ t)), np.log(normal_cdf(-(Z @ t)))), [0.2, 0.5, 0.0], w).fit()
            ws, ys, Xs = w[seen], y[seen], X[seen]
            b = np.linalg.solve(Xs.T @ (ws[:, None] * Xs), Xs.T @ (ws * ys))
            e = ys - Xs @ b
            s2 = (ws * e * e).sum() / ws.sum()
            case["apart"] = probit.value(probit.theta) - ws.sum() * (0.5 * math.log(s2) + 0.5 * math.log(2 * math.pi) + 0.5)
            one["cases"]["heckman" + name] = case
            # Two steps.
            g = probit.theta
            lam = tail((Z @ g)[seen])
            R = np.column_stack([Xs, lam])
            t = np.linalg.solve(R.T @ (ws[:, None] * R), R.T @ (ws * ys))
            e = ys - R @ t
            delta = lam * (lam + (Z @ g)[seen])
            s2 = ((ws * e * e).sum() + t[2] ** 2 * (ws * delta).sum()) / ws.sum()
            rho2 = t[2] ** 2 / s2
            inverse = np.linalg.inv(R.T @ np.diag(ws) @ R)
            F = R.T @ np.diag(ws * delta) @ Z[seen]
            Q = rho2 * F @ np.linalg.inv(-probit.H) @ F.T
            V = s2 * inverse @ (R.T @ np.diag(ws * (1 - rho2 * delta)) @ R + Q) @ inverse

            def moments(t):
                gamma, b = t[:3], t[3:]
                zeta = Z @ gamma
                q = np.where(seen, 1.0, -1.0)
                first = Z * (q * tail(q * zeta))[:, None]
                R = np.column_stack([X, tail(zeta)])
                second = R * (np.where(seen, 1.0, 0.0) * (y - R @ b))[:, None]
                return np.hstack([first, second])

            case = stacked(moments, np.r_[g, t], w, a["c"], [3, 4, 5], n)
            case["b"] = t.tolist()
            case["classical"] = np.sqrt(np.diag(V)).tolist()
            one["cases"]["heckman-two-step" + name] = case
            # Between two ends; rows that lack x are left out.
            used = ~np.isnan(a["x"])
            lo, hi = a["lo"][used], a["hi"][used]
            exact = lo == hi
            Xi = np.column_stack([np.ones(used.sum()), a["x"][used]])

            def interval(t):
                eta, s = Xi @ t[:2], t[2]
                za = (np.where(np.isnan(lo), 0, lo) - eta) * np.exp(-s)
                zb = (np.where(np.isnan(hi), 0, hi) - eta) * np.exp(-s)
                upper = np.where(np.isnan(hi), 1, normal_cdf(zb))
                lower = np.where(np.isnan(lo), 0, normal_cdf(za))
                inside = np.where(exact, 1.0, upper - lower)
                return np.where(exact, -0.5 * za * za - s - 0.5 * math.log(2 * math.pi), np.log(inside))

            wi = a["w"][used] / a["w"][used].mean() if weighted else np.ones(used.sum())
            m = Model(interval, [1.0, 0.8, 0.4], wi).fit()
            one["cases"]["interval" + name] = m.out(a["c"][used], np.r_[1, 1, math.exp(m.theta[2])])
            # Instruments: the rows that have x.
            x, mm, o, k = a["x"][used], a["m"][used], a["o"][used], a["k"][used]
            W = np.column_stack([np.ones(used.sum()), x, a["z"][used], a["v"][used]])
            E = np.column_stack([np.ones(used.sum()), mm, x])

            def joined(t):
                eta, zeta, s, h = E @ t[:3], W @ t[3:7], t[7], t[8]
                u = (mm - zeta) * np.exp(-s)
                rho = np.tanh(h)
                inner = (eta + rho * u) / np.sqrt(1 - rho * rho)
                return np.log(normal_cdf(np.where(o > 0, 1, -1) * inner)) - 0.5 * u * u - s - 0.5 * math.log(2 * math.pi)

            m = Model(joined, [0.0, 0.3, 0.3, 0.5, 0.3, 0.6, -0.5, 0.2, 0.2], wi).fit()
            case = m.out(a["c"][used], np.r_[np.ones(7), math.exp(m.theta[7]), 1 - math.tanh(m.theta[8]) ** 2])
            one["cases"]["probit-instruments" + name] = case
            pi = np.linalg.solve(W.T @ (wi[:, None] * W), W.T @ (wi * mm))

            def control(t):
                left = mm - W @ t[:4]
                R = np.column_stack([E.astype(left.dtype), left])
                return np.hstack([W * left[:, None], R * (k - np.exp(R @ t[4:]))[:, None]])

            left = mm - W @ pi
            R = np.column_stack([E, left])
            poisson = Model(lambda t: k * (R @ t) - np.exp(R @ t), [0.2, 0.2, 0.2, 0.1], wi).fit()
            case = stacked(control, np.r_[pi, poisson.theta], wi, a["c"][used], [4, 5, 6, 7], used.sum())
            case["b"] = poisson.theta.tolist()
            one["cases"]["poisson-control" + name] = case
        one["spread"] = spread_quantiles(kind)
        out[kind] = one
    pathlib.Path(__file__).with_name("joined_reference.json").write_text(json.dumps(out, indent=None) + "\n")


if __name__ == "__main__":
    main()
