#!/usr/bin/env python3
"""Reference values for predictions, effects, hypotheses, bends and resampling: effects_reference.json.

Every number from its definition with numpy: the design written out by hand, effects by the rules of
differentiation written out by hand, bends by a dense search and a simplex, draws by refitting each
drawn data set with the same random numbers (the mixing of SplitMix64, written again here).
"""
import json
import math
import pathlib

import numpy as np
import scipy.optimize as so
import scipy.stats as st

MASK = 2**64 - 1


class Stream:
    """The i-th number of a stream hangs on (seed, stream, i) alone."""
    STEP = 0x9E3779B97F4A7C15

    @staticmethod
    def mixed(x):
        x = ((x ^ (x >> 30)) * 0xBF58476D1CE4E5B9) & MASK
        x = ((x ^ (x >> 27)) * 0x94D049BB133111EB) & MASK
        return x ^ (x >> 31)

    def __init__(self, seed, stream):
        self.key = self.mixed(self.mixed((seed + self.STEP) & MASK) ^ ((stream * self.STEP + 1) & MASK))
        self.counter = 0

    def next(self):
        self.counter += 1
        return self.mixed((self.key + self.STEP * self.counter) & MASK)

    def below(self, size):
        return (self.next() * size) >> 64


def data(n=72):
    rng = Stream(11, 0)
    uniform = lambda: (rng.next() >> 11) * 2.0**-53
    out = {k: [] for k in ("x", "z", "g", "m", "c", "few", "w", "y")}
    for i in range(n):
        x = round(0.5 + 7.5 * uniform(), 3)
        z = round(4 * uniform() - 1, 3)
        g, m = i % 3 + 1, int(uniform() < 0.45)
        c, few = i // 5 + 1, i % 7 + 1
        shock = st.norm.ppf(0.001 + 0.998 * uniform()) + 0.5 * math.sin(c)
        y = 6 + 1.9 * x - 0.17 * x * x + 0.6 * z + 0.9 * (g == 2) + (0.8 + 0.3 * x) * m + 0.5 * shock
        for k, v in (("x", x), ("z", z), ("g", g), ("m", m), ("c", c), ("few", few),
                     ("w", round(0.4 + 2 * uniform(), 2)), ("y", round(y, 4))):
            out[k].append(v)
    return out


def ols(X, y, w=None):
    w = np.ones(len(y)) if w is None else w
    A = np.linalg.inv(X.T @ (w[:, None] * X))
    b = A @ (X.T @ (w * y))
    return b, y - X @ b, A


def main():
    d = data()
    x, z, g, m, c, few, w, y = (np.array(d[k], float) for k in ("x", "z", "g", "m", "c", "few", "w", "y"))
    n = len(y)
    ref = {"data": d}

    # Levels: y on x, x², z, g (base 1), m, x·m, with HC3 errors.
    one = np.ones(n)
    row = lambda x, z, g, m: np.column_stack(
        [one[:len(np.atleast_1d(x))], x, np.square(x), z, np.equal(g, 2) * 1.0, np.equal(g, 3) * 1.0, m,
         np.multiply(x, m)])
    X = row(x, z, g, m)
    k = X.shape[1]
    b, e, A = ols(X, y)
    h = np.einsum("ij,jk,ik->i", X, A, X)
    V = A @ (X.T @ (X * (e / (1 - h))[:, None]**2)) @ A
    t = st.t.ppf(0.975, n - k)
    s2 = e @ e / (n - k)

    def linear(r):
        r = np.asarray(r, float).ravel()
        value, se = r @ b, math.sqrt(r @ V @ r)
        return {"estimate": value, "se": se, "p": 2 * st.t.sf(abs(value / se), n - k),
                "low": value - t * se, "high": value + t * se}

    first = row(np.array([3.0]), np.array([1.5]), np.array([2]), np.array([1]))[0]
    second = row(np.array([6.5]), np.array([z.mean()]), np.array([1]), np.array([m.mean()]))[0]
    # x·m of the mean of m: 6.5 times the mean.
    predictions = []
    for r in (first, second):
        p = linear(r)
        reach = t * math.sqrt(p["se"]**2 + s2)
        p["row_low"], p["row_high"] = p["estimate"] - reach, p["estimate"] + reach
        predictions.append(p)
    ref["levels"] = {"predictions": predictions, "difference": linear(second - first)}
    slope = lambda x, m: np.column_stack([0 * x, 1 + 0 * x, 2 * x, 0 * x, 0 * x, 0 * x, 0 * x, m])
    ref["levels"]["x average"] = linear(slope(x, m).mean(0))
    ref["levels"]["x at means"] = linear(slope(np.array([x.mean()]), np.array([m.mean()])))
    ref["levels"]["x at 2, 1"] = linear(slope(np.array([2.0]), np.array([1.0])))
    ref["levels"]["m average"] = linear((row(x, z, g, one) - row(x, z, g, 0 * one)).mean(0))
    ref["levels"]["g 3 average"] = linear((row(x, z, 3 * one, m) - row(x, z, one, m)).mean(0))
    # Elasticity of x: mean of x ŷ'(x)/ŷ, gradient written out.
    D, fit = slope(x, m), X @ b
    grad = ((x / fit)[:, None] * D - (x * (D @ b) / fit**2)[:, None] * X).mean(0)
    value, se = (x * (D @ b) / fit).mean(), math.sqrt(grad @ V @ grad)
    ref["levels"]["x elasticity"] = {"estimate": value, "se": se}

    def wald(R, r):
        R = np.atleast_2d(np.array(R, float))
        dlt = R @ b - r
        q = len(R)
        f = dlt @ np.linalg.solve(R @ V @ R.T, dlt) / q
        return {"f": f, "p": st.f.sf(f, q, n - k)}
    unit = lambda j: [1.0 if i == j else 0.0 for i in range(k)]
    joint = wald([unit(4), unit(5)], np.zeros(2))
    equal = linear(np.array(unit(3)) - 2 * np.array(unit(4)))
    against = (b[3] - 0.4) / math.sqrt(V[3, 3])
    ref["hypotheses"] = {
        "g = 0": joint, "z = 2 * g2": equal,
        "z > 0.4": {"t": against, "p": st.t.sf(against, n - k)},
        "z = 0.4 and x * m = 0.3": wald([unit(3), unit(7)], np.array([0.4, 0.3]))}

    # Models against each other: y on 1, x, z, m; on 1, x, z; on 1, z², m.
    def model(*cols):
        XX = np.column_stack((one,) + cols)
        bb, ee, AA = ols(XX, y)
        return XX, ee, AA, y - ee
    big, small, rival = model(x, z, m), model(x, z), model(z * z, m)
    rss_of = lambda q: float(q[1] @ q[1])
    f = (rss_of(small) - rss_of(big)) / (rss_of(big) / (n - 4))
    def j_test(own, other):
        XX = np.column_stack((own[0], other[3]))
        bb, ee, AA = ols(XX, y)
        tt = bb[-1] / math.sqrt(ee @ ee / (n - XX.shape[1]) * AA[-1, -1])
        M = lambda q: np.eye(n) - q[0] @ q[2] @ q[0].T
        left = M(other) @ own[3]
        expected = (rss_of(own) + left @ left) / n
        var = rss_of(own) / n / expected**2 * (left @ M(own) @ left)
        cox = n / 2 * math.log(rss_of(other) / n / expected) / math.sqrt(var)
        return {"t": tt, "p": 2 * st.t.sf(abs(tt), n - XX.shape[1]), "cox": cox, "cox p": 2 * st.norm.sf(abs(cox))}
    ref["models"] = {"f": f, "p": st.f.sf(f, 1, n - 4), "small against rival": j_test(small, rival),
                     "rival against small": j_test(rival, small)}

    # A square alone: turning point with Fieller's set (roots by numpy).
    X2 = np.column_stack([one, x, x * x])
    b2, e2, A2 = ols(X2, y)
    V2 = e2 @ e2 / (n - 3) * A2
    t2 = st.t.ppf(0.975, n - 3)
    g1, g2 = -1 / (2 * b2[2]), b2[1] / (2 * b2[2]**2)
    roots = np.sort(np.roots([4 * (b2[2]**2 - t2**2 * V2[2, 2]), 4 * (b2[1] * b2[2] - t2**2 * V2[1, 2]),
                              b2[1]**2 - t2**2 * V2[1, 1]]).real)
    ref["turning"] = {"at": -b2[1] / (2 * b2[2]), "low": roots[0], "high": roots[1],
                      "se": math.sqrt(g1 * g1 * V2[1, 1] + 2 * g1 * g2 * V2[1, 2] + g2 * g2 * V2[2, 2])}

    # Logs, weighted (sampling): ln y on ln x, z, m.
    ws = w / w.mean()
    XL = np.column_stack([one, np.log(x), z, m])
    bL, eL, AL = ols(XL, np.log(y), ws)
    VL = n / (n - 4) * AL @ (XL.T @ (XL * (ws * eL)[:, None]**2)) @ AL
    sL = math.sqrt((ws * eL * eL).sum() / (n - 4))
    tL = st.t.ppf(0.975, n - 4)
    r = np.array([1, math.log(4.0), (w * z).sum() / w.sum(), 1.0])
    value, se = r @ bL, math.sqrt(r @ VL @ r)
    smear = (w * np.exp(eL)).sum() / w.sum()
    reach = tL * math.sqrt(se * se + sL * sL)
    ref["logs"] = {
        "estimate": value, "se": se, "mean": smear * math.exp(value), "middle": math.exp(value),
        "low": smear * math.exp(value - tL * se), "high": smear * math.exp(value + tL * se),
        "row_low": math.exp(value - reach), "row_high": math.exp(value + reach), "factor": smear,
        "x elasticity": {"estimate": bL[1], "se": math.sqrt(VL[1, 1])},
        "x average": {"estimate": bL[1] * (w / x).sum() / w.sum(),
                      "se": math.sqrt(VL[1, 1]) * (w / x).sum() / w.sum()}}

    # Draws, each refitted: y on x, z.
    B, seed = 199, 5
    X3 = np.column_stack([one, x, z])
    b3, e3, A3 = ols(X3, y)
    h3 = np.einsum("ij,jk,ik->i", X3, A3, X3)
    k3 = 3
    draws = {"rows": [], "clusters": [], "wild": []}
    ids = c.astype(int) - 1
    G = int(ids.max()) + 1
    members = [np.where(ids == j)[0] for j in range(G)]
    for dd in range(B):
        s = Stream(seed, dd)
        take = [s.below(n) for _ in range(n)]
        draws["rows"].append(ols(X3[take], y[take])[0])
        s = Stream(seed, dd)
        take = np.concatenate([members[s.below(G)] for _ in range(G)])
        draws["clusters"].append(ols(X3[take], y[take])[0])
        s = Stream(seed, dd)
        signs, bits = [], 0
        for i in range(n):
            bits = s.next() if i % 64 == 0 else bits >> 1
            signs.append(1.0 if bits & 1 else -1.0)
        draws["wild"].append(ols(X3, X3 @ b3 + e3 / np.sqrt(1 - h3) * np.array(signs))[0])
    ref["draws"] = {"B": B, "seed": seed}

    def quantile(v, p):
        v = np.sort(v)
        place = min(max(p * (len(v) + 1), 1), len(v))
        lo = int(math.floor(place))
        return v[lo - 1] if place == lo else v[lo - 1] + (place - lo) * (v[lo] - v[lo - 1])
    for scheme, sample in draws.items():
        sample = np.array(sample)
        out = {"covariance": np.cov(sample.T).tolist(), "percentile": [], "bca": []}
        if scheme == "clusters":
            loo = np.array([ols(np.delete(X3, mm, 0), np.delete(y, mm))[0] for mm in members])
        else:
            loo = np.array([ols(np.delete(X3, i, 0), np.delete(y, i))[0] for i in range(n)])
        for j in range(k3):
            v = sample[:, j]
            out["percentile"].append([quantile(v, 0.025), quantile(v, 0.975)])
            below = np.clip((np.sum(v < b3[j]) + np.sum(v <= b3[j])) / 2 / B, 0.5 / B, 1 - 0.5 / B)
            z0 = st.norm.ppf(below)
            u = loo[:, j].mean() - loo[:, j]
            a = (u**3).sum() / (6 * (u**2).sum()**1.5)
            ends = [st.norm.cdf(z0 + (z0 + q) / (1 - a * (z0 + q))) for q in st.norm.ppf([0.025, 0.975])]
            out["bca"].append([quantile(v, ends[0]), quantile(v, ends[1])])
        ref["draws"][scheme] = out

    # Wild draws by clusters with the hypothesis imposed: restricted fit, new outcome, refit, its own
    # clustered error. Fifteen clusters with signs, seven with Webb's points.
    def clustered(Xc, ec, of):
        Ac = np.linalg.inv(Xc.T @ Xc)
        labels = np.unique(of)
        S = np.array([Xc[of == l].T @ ec[of == l] for l in labels])
        f = len(labels) / (len(labels) - 1) * (n - 1) / (n - Xc.shape[1])
        return f * Ac @ (S.T @ S) @ Ac
    webb = [-math.sqrt(1.5), -1.0, -math.sqrt(.5), math.sqrt(.5), 1.0, math.sqrt(1.5)]
    wild = {}
    for name, of in (("many", ids), ("few", few.astype(int) - 1)):
        Gc = of.max() + 1
        weights = []
        for dd in range(B):
            s = Stream(seed, dd)
            weights.append([webb[s.below(6)] if Gc < 12 else (1.0 if s.next() >> 63 else -1.0)
                            for _ in range(Gc)])
        Vc = clustered(X3, e3, of)

        def p_of(j, r0):
            keep = [i for i in range(k3) if i != j]
            bt, et, _ = ols(X3[:, keep], y - r0 * X3[:, j])
            base = y - et
            t0 = (b3[j] - r0) / math.sqrt(Vc[j, j])
            beyond = 0
            for v in weights:
                ys = base + et * np.array(v)[of]
                bs, es, _ = ols(X3, ys)
                beyond += abs((bs[j] - r0) / math.sqrt(clustered(X3, es, of)[j, j])) >= abs(t0) * (1 - 1e-10)
            return beyond / B
        wild[name] = {"p": [p_of(j, 0.0) for j in range(k3)],
                      "p at": [[r0, p_of(2, r0)] for r0 in (b3[2] - 0.5, b3[2] + 0.3)]}
    ref["draws"]["wild-clusters"] = wild

    # Bends: two of them, and one beside another term; rss by a dense search, then a simplex.
    rng = Stream(3, 0)
    uni = lambda: (rng.next() >> 11) * 2.0**-53
    xb = np.array([round(10 * uni(), 3) for _ in range(90)])
    zb = np.array([round(uni(), 3) for _ in range(90)])
    yb = np.array([round(v, 4) for v in (1 + 0.8 * xb - 1.1 * np.maximum(xb - 3.2, 0) + 1.6 * np.maximum(xb - 7.1, 0)
                   + 0.5 * zb + 0.35 * np.array([st.norm.ppf(0.001 + 0.998 * uni()) for _ in range(90)]))])
    ref["bent data"] = {"x": xb.tolist(), "z": zb.tolist(), "y": yb.tolist()}

    def rss(taus):
        Xt = np.column_stack([np.ones(90), xb, zb] + [np.maximum(xb - q, 0) for q in taus])
        bb, *_ = np.linalg.lstsq(Xt, yb, rcond=None)
        return float(((yb - Xt @ bb)**2).sum())
    grid = np.linspace(0.5, 9.5, 91)
    start = min(((rss((p, q)), (p, q)) for p in grid for q in grid if q - p > 0.3))[1]
    best = so.minimize(rss, start, method="Nelder-Mead", options={"xatol": 1e-11, "fatol": 1e-13, "maxiter": 4000})
    best = so.minimize(rss, best.x, method="Nelder-Mead", options={"xatol": 1e-12, "fatol": 1e-14, "maxiter": 4000})
    taus = best.x
    Xt = np.column_stack([np.ones(90), xb, zb] + [np.maximum(xb - q, 0) for q in taus])
    bb, eb, _ = ols(Xt, yb)
    J = np.column_stack([Xt] + [-bb[3 + i] * (xb > q + 1e-7) for i, q in enumerate(taus)])
    # At a kink (a bend that stands at a value of x) the row there counts as not yet past it.
    dfb = 90 - 7
    Vb = best.fun / dfb * np.linalg.inv(J.T @ J)
    limit = best.fun * (1 + st.t.ppf(0.975, dfb)**2 / dfb)

    def profile(at, j):
        inner = lambda q: rss((at, q) if j == 0 else (q, at))
        lo, hi = (at + 0.05, 9.9) if j == 0 else (0.1, at - 0.05)
        near = min((inner(q), q) for q in np.linspace(lo, hi, 400))[1]
        r1 = so.minimize_scalar(inner, bracket=(near - 0.05, near, near + 0.05), tol=1e-12)
        return min(r1.fun, inner(near)) - limit
    ends = []
    for j in range(2):
        ends.append([so.brentq(profile, taus[j] - 1.2, taus[j], args=(j,), xtol=1e-10),
                     so.brentq(profile, taus[j], taus[j] + 1.2, args=(j,), xtol=1e-10)])
    ref["bends"] = {"at": taus.tolist(), "rss": best.fun, "se": [math.sqrt(Vb[5, 5]), math.sqrt(Vb[6, 6])],
                    "ends": ends, "b": bb.tolist(), "se b": np.sqrt(np.diag(Vb))[:5].tolist()}
    # Davies' bound over the distinct inner values of x.
    X0 = np.column_stack([np.ones(90), xb, zb])
    _, e0, _ = ols(X0, yb)
    P = np.eye(90) - X0 @ np.linalg.inv(X0.T @ X0) @ X0.T
    stats = []
    for q in np.unique(xb)[1:-1]:
        hh = P @ np.maximum(xb - q, 0)
        stats.append(hh @ yb / math.sqrt((e0 @ e0) / 87 * (hh @ hh)))
    stats = np.array(stats)
    M = np.abs(stats).max()
    ref["bends"]["davies"] = {"largest": M, "p": min(1.0, 2 * (st.norm.sf(M) + np.abs(np.diff(stats)).sum()
                                                           * math.exp(-M * M / 2) / math.sqrt(8 * math.pi)))}
    (pathlib.Path(__file__).parent / "effects_reference.json").write_text(json.dumps(ref, indent=1) + "\n")


main()
