#!/usr/bin/env python3
"""Reference values for the further checks of least squares: checks_reference.json.

Three data sets: one clean, one where much fails (bend, fan, clusters, drift), one awkward (tied
values, 17 rows); the clean and the failing one once more with precision weights, where every check
is of the model times root weights. Every number from its definition with numpy:
fits by lstsq on the columns as they are, leave-one-out numbers by really leaving rows out,
recursive residuals by really refitting on the rows before, laws by scipy.
"""
import itertools
import json
import math
import pathlib

import numpy as np
import scipy.stats as st
from scipy.integrate import quad
from scipy.optimize import brentq


def generator(seed):
    x = seed
    def draw():
        nonlocal x
        x = (1103515245 * x + 12345) % 2**31
        return x / 2**31
    return draw


def normal(draw):
    return st.norm.ppf(0.0005 + 0.999 * draw())


def data(kind):
    draw = generator({"clean": 3, "fails": 4, "awkward": 5}[kind])
    n = {"clean": 90, "fails": 120, "awkward": 17}[kind]
    out = {name: [] for name in ("t", "x", "z", "g", "c", "y")}
    e = 0.0
    for i in range(n):
        x = round(1 + 4 * draw(), 3)
        z = round(2 * draw() + (0.5 * x if kind == "fails" else 0), 3)
        if kind == "awkward":
            x, z = float(round(x)), float(round(z))
        g = i % 3 + 1
        c = i // 6 + 1
        shock = normal(draw)
        if kind == "fails":
            e = 0.6 * e + shock * (0.2 + 0.4 * x)
            y = 1 + 0.8 * x ** 2 - z + 0.9 * math.sin(c) + e + (3 if i > 80 else 0) + 0.4 * x * z
        else:
            y = 2 + 0.5 * x - 0.3 * z + 0.4 * (g == 2) + 0.6 * shock
        for name, value in (("t", i + 1), ("x", x), ("z", z), ("g", g), ("c", c), ("y", round(y, 4))):
            out[name].append(value)
    return out


def fit(X, y):
    b, *_ = np.linalg.lstsq(X, y, rcond=1e-12)
    e = y - X @ b
    return b, e, int(np.linalg.matrix_rank(X))


def aux(Z, y):
    X = np.column_stack([np.ones(len(y)), Z])
    _, e, rank = fit(X, y)
    total = ((y - y.mean()) ** 2).sum()
    return 1 - (e @ e) / total, total - e @ e, e @ e, rank - 1


def f_p(f, a, b):
    return float(st.f.sf(f, a, b))


def checks(d, weighted):
    x, z = np.array(d["x"]), np.array(d["z"])
    g, c = np.array(d["g"]), np.array(d["c"])
    root = np.sqrt(np.array(d["w"])) if weighted else np.ones_like(x)
    raw = np.column_stack([np.ones_like(x), x, z, g == 2, g == 3]).astype(float)
    X = root[:, None] * raw
    y = root * np.array(d["y"])
    n, k = X.shape
    b, e, _ = fit(X, y)
    rss = e @ e
    Z = raw[:, 1:]
    inverse = np.linalg.inv(X.T @ X)
    h = np.einsum("ij,jk,ik->i", X, inverse, X)
    out = {}

    r2, ess, _, m = aux(Z, np.log(e ** 2))
    out["harvey"] = {"statistic": n * r2, "p": float(st.chi2.sf(n * r2, m)),
                     "original statistic": ess / (math.pi ** 2 / 2)}
    r2, ess, rest, m = aux(Z, np.abs(e))
    out["glejser"] = {"statistic": n * r2, "p": float(st.chi2.sf(n * r2, m)),
                      "F": ess / m / (rest / (n - m - 1))}

    out.update(first_checks(raw, X, y, root, b, e, h, inverse))
    order = np.argsort(x, kind="stable")
    drop = int(0.2 * n)
    each = (n - drop) // 2
    # Rows of one value stand on one side.
    low, high = np.flatnonzero(x <= x[order[each - 1]]), np.flatnonzero(x >= x[order[len(order) - each]])
    _, el, kl = fit(X[low], y[low])
    _, eh, kh = fit(X[high], y[high])
    dl, dh = len(low) - kl, len(high) - kh
    f = (eh @ eh / dh) / (el @ el / dl)
    up, down = f_p(f, dh, dl), f_p(1 / f, dl, dh)
    out["goldfeld-quandt"] = {"statistic": f, "p": min(1, 2 * min(up, down)), "p, growing": up}

    w, p = st.levene(*[e[g == v] for v in (1, 2, 3)], center="median")
    out["groupwise"] = {"statistic": float(w), "p": float(p)}

    s2 = e ** 2
    r2, _, _, m = aux(s2[:-1, None], s2[1:])
    out["arch"] = {"statistic": (n - 1) * r2, "p": float(st.chi2.sf((n - 1) * r2, 1))}
    lags = min(10, n // 5)
    r = [(e[j:] @ e[:n - j]) / rss for j in range(1, lags + 1)]
    q = n * (n + 2) * sum(v * v / (n - j) for j, v in enumerate(r, 1))
    out["ljung-box"] = {"statistic": q, "p": float(st.chi2.sf(q, lags)), "r 1": r[0]}
    signs = e > 0
    n1, n2 = int(signs.sum()), int((~signs).sum())
    runs = 1 + int((signs[1:] != signs[:-1]).sum())
    mean = 2 * n1 * n2 / n + 1
    var = 2 * n1 * n2 * (2 * n1 * n2 - n) / (n * n * (n - 1))
    zr = (runs - mean) / math.sqrt(var)
    out["runs"] = {"statistic": zr, "p": float(2 * st.norm.sf(abs(zr))), "runs": runs}

    groups = [e[c == v] for v in sorted(set(c))]
    f, p = st.f_oneway(*groups)
    msw = sum(((v - v.mean()) ** 2).sum() for v in groups) / (n - len(groups))
    n0 = (n - sum(len(v) ** 2 for v in groups) / n) / (len(groups) - 1)
    share = (f * msw - msw) / (f * msw + (n0 - 1) * msw)
    out["intraclass"] = {"statistic": float(f), "p": float(p), "intraclass share": float(share)}

    dfb, dff, cov = [], [], []
    for i in range(n):
        rest = np.arange(n) != i
        bi, ei, _ = fit(X[rest], y[rest])
        si2 = ei @ ei / (n - 1 - k)
        dfb.append((b - bi) / np.sqrt(si2 * np.diag(inverse)))
        dff.append(float(X[i] @ (b - bi)) / math.sqrt(si2 * h[i]))
        Vi = si2 * np.linalg.inv(X[rest].T @ X[rest])
        V = rss / (n - k) * inverse
        cov.append(float(np.linalg.det(Vi) / np.linalg.det(V)))
    dfb, dff, cov = np.array(dfb), np.array(dff), np.array(cov)
    at = np.unravel_index(np.abs(dfb).argmax(), dfb.shape)
    out["dfbetas"] = {"statistic": float(dfb[at]), "largest x": float(np.abs(dfb[:, 1]).max()),
                      "rows above 2/√n": int((np.abs(dfb).max(axis=1) > 2 / math.sqrt(n)).sum())}
    out["dffits"] = {"statistic": float(dff[np.abs(dff).argmax()]),
                     "rows above 2√(k/n)": int((np.abs(dff) > 2 * math.sqrt(k / n)).sum())}
    out["covratio"] = {"statistic": float(cov[np.abs(cov - 1).argmax()]),
                       "rows beyond 3k/n": int((np.abs(cov - 1) > 3 * k / n).sum())}

    S = X / np.linalg.norm(X, axis=0)
    _, sv, vt = np.linalg.svd(S)
    parts = (vt.T ** 2) / sv ** 2
    shares = parts[:, -1] / parts.sum(axis=1)
    out["condition"] = {"statistic": float(sv[0] / sv[-1]), "share x": float(shares[1]),
                        "share (constant)": float(shares[0])}

    def chow(cut):
        parts = [fit(X[cut == v], y[cut == v]) for v in sorted(set(cut))]
        rest = sum(float(p[1] @ p[1]) for p in parts)
        ks = sum(p[2] for p in parts)
        f = (rss - rest) / (ks - k) / (rest / (n - ks))
        return {"statistic": f, "p": f_p(f, ks - k, n - ks), "df1": ks - k}
    if n > 30:
        out["chow by g"] = chow(g)
        out["chow at 60"] = chow((np.array(d["t"]) >= 60).astype(int))

    # Recursive residuals, by refitting on all rows before wherever these have full rank.
    w = []
    for t in range(k, n):
        before = X[:t]
        if np.linalg.matrix_rank(before) < k:
            continue
        bt, *_ = np.linalg.lstsq(before, y[:t], rcond=None)
        s = 1 + X[t] @ np.linalg.inv(before.T @ before) @ X[t]
        w.append((y[t] - X[t] @ bt) / math.sqrt(s))
    w = np.array(w)
    m = len(w)
    path = np.cumsum(w) / math.sqrt((w ** 2).sum() / m)
    j = np.arange(1, m + 1)
    stat = np.abs(path / (math.sqrt(m) * (1 + 2 * j / m))).max()
    p = 2 * (st.norm.sf(3 * stat) + math.exp(-4 * stat ** 2) * st.norm.cdf(stat))
    out["cusum"] = {"statistic": float(stat), "p": float(min(1, p)), "recursive residuals": m}
    dev = np.abs(np.cumsum(w ** 2) / (w ** 2).sum() - j / m).max()
    # A break at each moment, both parts really refitted; the law is fitted elsewhere.
    first = math.ceil(0.15 * n)
    if first >= k + 2:
        path = []
        for t in range(first, n - first + 1):
            parts = sum(float(fit(X[s], y[s])[1] @ fit(X[s], y[s])[1]) for s in (slice(0, t), slice(t, n)))
            path.append((rss - parts) / k / (parts / (n - 2 * k)))
        out["sup-f"] = {"statistic": max(path), "row of the break": first + int(np.argmax(path)) + 1}
    # How far the sums of the scores wander, in the triangle of X.
    scores = np.cumsum(X @ np.linalg.inv(np.linalg.cholesky(X.T @ X).T) * e[:, None], axis=0)
    most = np.abs(scores).max() / math.sqrt(rss / (n - k))
    tail = sum((2 if j % 2 else -2) * math.exp(-2 * j * j * most ** 2) for j in range(1, 101))
    out["recursive"] = {"statistic": most, "p": 1 - (1 - min(tail, 1.0)) ** k}
    out["cusum-squares"] = {"statistic": float(dev),
                            "p": float(st.kstwobign.sf(dev * math.sqrt(m / 2)))}

    half = np.argsort(h, kind="stable")[:n // 2]
    if n > 30:
        _, ec, kc = fit(X[half], y[half])
        f = (rss - ec @ ec) / (n - len(half)) / (ec @ ec / (len(half) - kc))
        out["rainbow"] = {"statistic": f, "p": f_p(f, n - len(half), len(half) - kc)}
    index = raw @ b
    L = root[:, None] * np.column_stack([np.ones(n), index, index ** 2])
    bl, el, _ = fit(L, y)
    se = math.sqrt(el @ el / (n - 3) * np.linalg.inv(L.T @ L)[2, 2])
    out["link"] = {"statistic": float(bl[2] / se), "p": float(2 * st.t.sf(abs(bl[2] / se), n - 3))}

    terms = {"x": [1], "z": [2], "g": [3, 4]}
    ps, best = {}, None
    for a, bb in itertools.combinations(terms, 2):
        products = np.column_stack([root * raw[:, i] * raw[:, l] for i in terms[a] for l in terms[bb]])
        _, el, rank = fit(np.column_stack([X, products]), y)
        q = rank - k
        f = (rss - el @ el) / q / (el @ el / (n - rank))
        ps[f"p {a} × {bb}"] = f_p(f, q, n - rank)
        if best is None or ps[f"p {a} × {bb}"] < best[1]:
            best = (float(f), ps[f"p {a} × {bb}"])
    out["interactions"] = {"statistic": best[0], "p": min(1.0, 3 * best[1]), **ps}
    return out


def first_checks(raw, X, y, root, b, e, h, inverse):
    """The checks whose digits to the last are in reference.json, on these data sets too."""
    n, k = X.shape
    rss = e @ e
    Z = raw[:, 1:]
    out = {}
    def lm(columns, target):
        r2, ess, _, m = aux(columns, target)
        return n * r2, float(st.chi2.sf(n * r2, m)), ess
    g2 = e ** 2 / (rss / n)
    stat, p, ess = lm(Z, g2)
    out["breusch-pagan"] = {"statistic": stat, "p": p, "original statistic": ess / 2}
    m = Z.shape[1]
    pairs = [(i, j) for i in range(m) for j in range(i, m)]
    if m * (m + 3) / 2 >= n / 5:
        pairs = [(i, i) for i in range(m)]
    stat, p, _ = lm(np.column_stack([Z] + [Z[:, i] * Z[:, j] for i, j in pairs]), g2)
    out["white"] = {"statistic": stat, "p": p}

    def added(columns):
        _, left, rank = fit(np.column_stack([X, root[:, None] * columns]), y)
        f = (rss - left @ left) / (rank - k) / (left @ left / (n - rank))
        return float(f), f_p(f, rank - k, n - rank)
    fitted = raw @ b
    stat, p = added(np.column_stack([fitted ** 2, fitted ** 3]))
    out["reset"] = {"statistic": stat, "p": p}
    squares = {name: added(raw[:, [j]] ** 2) for name, j in (("x", 1), ("z", 2))}
    worst = min(squares.values(), key=lambda one: one[1])
    out["component-residual"] = {"statistic": math.sqrt(worst[0]), "p": min(1.0, 2 * worst[1]),
                                 "p x": squares["x"][1], "p z": squares["z"][1]}

    d = ((e[1:] - e[:-1]) ** 2).sum() / rss
    A = 2 * np.eye(n) - np.eye(n, k=1) - np.eye(n, k=-1)
    A[0, 0] = A[-1, -1] = 1
    M = np.eye(n) - X @ inverse @ X.T
    lam = np.sort(np.linalg.eigvalsh(M @ A @ M))[k:] - d
    def below(lam):
        lam = lam / np.abs(lam).max()
        def f(u):
            return math.sin(0.5 * np.arctan(lam * u).sum()) / u / math.exp(0.25 * np.log1p((lam * u) ** 2).sum())
        edges = np.concatenate([np.linspace(0, 4, 81), np.geomspace(4.2, 3000, 120)])
        return 0.5 - sum(quad(f, a, b, epsabs=1e-13)[0] for a, b in zip(edges, edges[1:])) / math.pi
    out["durbin-watson"] = {"statistic": d, "p": below(lam)}
    if (root == 1).all():
        all_values = 2 - 2 * np.cos(np.pi * np.arange(1, n) / n)
        for name, values in (("dL", all_values[:n - k]), ("dU", all_values[k - 1:])):
            out["durbin-watson"][name] = brentq(lambda at: below(values - at) - 0.05,
                                                values.min() + 1e-6, values.mean(), xtol=1e-12)
    lagged = np.concatenate([[0.0], e[:-1]])
    left = fit(np.column_stack([X, lagged]), e)[1]
    out["breusch-godfrey"] = {"statistic": n * (1 - left @ left / rss),
                              "p": float(st.chi2.sf(n * (1 - left @ left / rss), 1))}

    centred = e - e.mean()
    moment = [float((centred ** j).mean()) for j in (2, 3, 4)]
    jb = n / 6 * (moment[1] ** 2 / moment[0] ** 3 + (moment[2] / moment[0] ** 2 - 3) ** 2 / 4)
    out["jarque-bera"] = {"statistic": jb, "p": math.exp(-jb / 2)}
    t = []
    cook = []
    for i in range(n):
        rest = np.arange(n) != i
        bi, ei, _ = fit(X[rest], y[rest])
        t.append(float(y[i] - X[i] @ bi) / math.sqrt(ei @ ei / (n - 1 - k) * (1 + X[i] @ np.linalg.inv(X[rest].T @ X[rest]) @ X[i])))
        cook.append(float((b - bi) @ (X.T @ X) @ (b - bi)) / (k * rss / (n - k)))
    t = np.array(t)
    far = float(t[np.abs(t).argmax()])
    out["outliers"] = {"statistic": far, "p": min(1.0, n * 2 * float(st.t.sf(abs(far), n - k - 1)))}
    out["cooks-distance"] = {"statistic": max(cook)}
    out["leverage"] = {"statistic": float(h.max())}
    w = root ** 2
    mean = (w[:, None] * Z).sum(axis=0) / w.sum()
    S = (w[:, None] * (Z - mean)).T @ (Z - mean)
    R = S / np.sqrt(np.outer(np.diag(S), np.diag(S)))
    def gvif(own):
        others = [j for j in range(Z.shape[1]) if j not in own]
        return float(np.linalg.det(R[np.ix_(own, own)]) * np.linalg.det(R[np.ix_(others, others)]) / np.linalg.det(R))
    out["vif"] = {"vif x": gvif([0]), "vif z": gvif([1]), "gvif g": gvif([2, 3])}
    return out


def newey_west(d, gone, lags):
    """Errors by all pairs of rows, weighted by how many moments they are apart."""
    rows = [i for i in range(len(d["t"])) if d["t"][i] not in gone]
    t = np.array(d["t"])[rows]
    X = np.column_stack([np.ones(len(rows)), np.array(d["x"])[rows], np.array(d["z"])[rows]])
    y = np.array(d["y"])[rows]
    b, e, _ = fit(X, y)
    n, k = X.shape
    if lags == "automatic":
        v = e * X[:, 1:].sum(axis=1)
        reach = int(4 * (n / 100) ** (2 / 9))
        sigma = [sum(v[i] * v[j] for i in range(n) for j in range(n) if t[i] - t[j] == l)
                 for l in range(reach + 1)]
        s0 = sigma[0] + 2 * sum(sigma[1:])
        s1 = 2 * sum(l * s for l, s in enumerate(sigma))
        lags = int(1.1447 * ((s1 / s0) ** 2) ** (1 / 3) * n ** (1 / 3))
    elif lags is None:
        lags = int(4 * (n / 100) ** (2 / 9))
    u = X * e[:, None]
    meat = np.zeros((k, k))
    for i in range(n):
        for j in range(n):
            apart = abs(int(t[i]) - int(t[j]))
            if apart <= lags:
                meat += (1 - apart / (lags + 1)) * np.outer(u[i], u[j])
    inverse = np.linalg.inv(X.T @ X)
    V = n / (n - k) * inverse @ meat @ inverse
    return {"gone": gone, "lags": lags, "se": np.sqrt(np.diag(V)).tolist()}


def main():
    out = {}
    for kind in ("clean", "fails", "awkward"):
        d = data(kind)
        out[kind] = {"data": d, "checks": checks(d, False)}
        if kind != "awkward":
            draw = generator(7)
            weighted = dict(d, w=[round(0.3 + 2 * draw(), 3) for _ in d["t"]])
            out[kind + ", weighted"] = {"data": weighted, "checks": checks(weighted, True)}
    d = data("fails")
    out["newey-west"] = {"rule": newey_west(d, [], None), "four": newey_west(d, [], 4),
                         "gaps": newey_west(d, [10, 11, 50, 90], 4),
                         "automatic": newey_west(d, [], "automatic")}
    path = pathlib.Path(__file__).with_name("checks_reference.json")
    path.write_text(json.dumps(out, indent=1) + "\n")


if __name__ == "__main__":
    main()
