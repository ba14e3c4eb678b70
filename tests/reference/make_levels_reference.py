#!/usr/bin/env python3
"""Reference values for random effects of groups: levels_reference.json.

Dense matrices throughout: V = R + sum Z G Z' of all rows, -2 ln of the (restricted) likelihood by
slogdet and solve, minimised over ln sd and inverse tanh of correlations by BFGS and Newton steps with
central differences; Satterthwaite's degrees of freedom over variances, not over a triangle; Kenward
and Roger's formulas as printed, with traces of n x n matrices; profiles by bisection with the other
parameters minimised anew; effects of groups as G Z' V^-1 (y - Xb), their errors from Henderson's
equations.
"""
import json
import pathlib

import numpy as np
import scipy.optimize as so
import scipy.stats as st

from make_checks_reference import generator, normal


def data(kind):
    draw = generator({"one": 5, "slope": 6, "nested": 7, "none": 8}[kind])
    d = {name: [] for name in ("y", "x", "z", "v", "g", "k")}
    if kind == "nested":
        sizes = [(k, g, 3 + int(4 * draw())) for k in range(6) for g in range(2 + int(3 * draw()))]
    else:
        sizes = [(0, g, 3 + int(6 * draw())) for g in range(26 if kind == "slope" else 14)]
    outer = {}
    for k, g, n in sizes:
        if k not in outer:
            outer[k] = 0.9 * normal(draw)
        u = 0.0 if kind == "none" else 0.8 * normal(draw)
        s = 0.6 * normal(draw) - 0.2 * u if kind == "slope" else 0.0
        for place in range(n):
            x = round(3 + normal(draw), 3)
            z = round(draw() + 0.2 * g, 3)
            v = round(0.5 + 2 * draw(), 3)
            e = normal(draw)
            y = 1 + 0.6 * x - 0.4 * z + u + s * x + (outer[k] if kind == "nested" else 0) + e
            if kind == "none":
                # Neighbours pull apart: groups share less than nothing.
                y = 1 + 0.6 * x + abs(e) * (-1) ** place
            for name, value in zip(d, (round(y, 4), x, z, v, g, k)):
                d[name].append(float(value))
    return d


class Model:
    """Parameters: ln s2, then of each level ln sd of its columns and inverse tanh of correlations."""

    def __init__(self, d, levels, restricted, weighted=False):
        self.y = np.array(d["y"])
        n = len(self.y)
        self.X = np.column_stack([np.ones(n), d["x"], d["z"]])
        self.R = 1 / np.array(d["v"]) if weighted else np.ones(n)
        self.restricted = restricted
        self.levels = []
        names = [lev["by"] for lev in levels]
        for place, lev in enumerate(levels):
            keys = list(zip(*(d[name] for name in names[place:])))
            order = {key: i for i, key in enumerate(dict.fromkeys(keys))}
            ids = np.array([order[key] for key in keys])
            columns = [np.ones(n)] + [np.array(d[s]) for s in lev.get("slopes", [])]
            q = len(columns)
            full = q > 1 and lev.get("covariance", "full") == "full"
            Z = np.zeros((n, len(order) * q))
            for i in range(n):
                for c in range(q):
                    Z[i, ids[i] * q + c] = columns[c][i]
            self.levels.append({"Z": Z, "q": q, "G": len(order), "full": full, "by": lev["by"], "ids": ids,
                                "means": [c.mean() for c in columns]})

    def size(self):
        return 1 + sum(l["q"] + (l["q"] * (l["q"] - 1) // 2 if l["full"] else 0) for l in self.levels)

    def parts(self, t):
        """s2 and the covariance of each level."""
        at, out = 1, []
        for l in self.levels:
            q = l["q"]
            sd = np.exp(t[at:at + q])
            at += q
            C = np.eye(q)
            if l["full"]:
                for a in range(q):
                    for b in range(a + 1, q):
                        C[a, b] = C[b, a] = np.tanh(t[at])
                        at += 1
            out.append(C * np.outer(sd, sd))
        return np.exp(t[0]), out

    def flat(self, s2, G):
        """Variances and covariances in one list, s2 last."""
        out = []
        for l, g in zip(self.levels, G):
            for a in range(l["q"]):
                for b in range(a, l["q"] if l["full"] else a + 1):
                    out.append(g[a, b])
        return np.array(out + [s2])

    def unflat(self, f):
        at, G = 0, []
        for l in self.levels:
            g = np.zeros((l["q"], l["q"]))
            for a in range(l["q"]):
                for b in range(a, l["q"] if l["full"] else a + 1):
                    g[a, b] = g[b, a] = f[at]
                    at += 1
            G.append(g)
        return f[-1], G

    def V(self, s2, G):
        out = np.diag(s2 * self.R)
        for l, g in zip(self.levels, G):
            out = out + l["Z"] @ np.kron(np.eye(l["G"]), g) @ l["Z"].T
        return out

    def deviance(self, s2, G):
        V = self.V(s2, G)
        sign, logdet = np.linalg.slogdet(V)
        if sign <= 0:
            return 1e9
        Vi = np.linalg.inv(V)
        P = self.X.T @ Vi @ self.X
        b = np.linalg.solve(P, self.X.T @ Vi @ self.y)
        e = self.y - self.X @ b
        n, p = self.X.shape
        out = logdet + e @ Vi @ e + (n - p if self.restricted else n) * np.log(2 * np.pi)
        return out + (np.linalg.slogdet(P)[1] if self.restricted else 0.0)

    def at(self, t):
        return self.deviance(*self.parts(t))

    def minimise(self, t, free=None):
        free = list(range(len(t))) if free is None else free

        def f(v):
            w = t.copy()
            w[free] = v
            return self.at(w)

        v = so.minimize(f, t[free], method="BFGS", options={"gtol": 1e-7}).x
        for _ in range(6):
            g, H = slope(f, v), hessian(f, v)
            step = np.linalg.solve(H, g)
            if not np.all(np.isfinite(step)) or np.abs(step).max() > 0.5:
                break
            v = v - step
            if np.abs(step).max() < 1e-10:
                break
        w = t.copy()
        w[free] = v
        return w


def slope(f, x, h=2e-4):
    out = np.zeros(len(x))
    for j in range(len(x)):
        e = np.zeros(len(x))
        e[j] = h
        out[j] = (8 * (f(x + e) - f(x - e)) - (f(x + 2 * e) - f(x - 2 * e))) / (12 * h)
    return out


def hessian(f, x, h=None):
    h = np.full(len(x), 2e-3) if h is None else h
    out = np.zeros((len(x), len(x)))
    for j in range(len(x)):
        e = np.zeros(len(x))
        e[j] = h[j]
        up = lambda times: np.array([
            (8 * (f(x + times * e + d) - f(x + times * e - d)) - (f(x + times * e + 2 * d) - f(x + times * e - 2 * d)))
            / (12 * h[k]) for k in range(len(x)) for d in [h[k] * np.eye(len(x))[k]]])
        out[j] = (8 * (up(1) - up(-1)) - (up(2) - up(-2))) / (12 * h[j])
    return 0.5 * (out + out.T)


def results(model, start, boundary=False):
    t = model.minimise(start) if not boundary else model.minimise(start, free=[0])
    s2, G = model.parts(t)
    if boundary:
        G = [0 * g for g in G]
    V = model.V(s2, G)
    Vi = np.linalg.inv(V)
    X, y = model.X, model.y
    C = np.linalg.inv(X.T @ Vi @ X)
    b = C @ X.T @ Vi @ y
    out = {"b": b.tolist(), "se": np.sqrt(np.diag(C)).tolist(), "sigma": float(np.sqrt(s2)),
           "covariances": [g.tolist() for g in G], "log_likelihood": -0.5 * model.deviance(s2, G)}
    f = model.flat(s2, G)
    if not boundary:
        # Satterthwaite over variances: the observed information there.
        g = lambda v: model.deviance(*model.unflat(v))
        H = hessian(g, f, h=1e-3 * np.maximum(np.abs(f), 0.02))
        A = 2 * np.linalg.inv(H)

        def cov(v):
            return np.linalg.inv(X.T @ np.linalg.inv(model.V(*model.unflat(v))) @ X)

        D = []
        for j in range(len(f)):
            h = 1e-3 * max(abs(f[j]), 0.02)
            e = np.zeros(len(f))
            e[j] = h
            D.append((8 * (cov(f + e) - cov(f - e)) - (cov(f + 2 * e) - cov(f - 2 * e))) / (12 * h))
        df = []
        for k in range(len(b)):
            d = np.array([m[k, k] for m in D])
            df.append(float(2 * C[k, k] ** 2 / (d @ A @ d)))
        out["satterthwaite"] = df
        vals, vecs = np.linalg.eigh(C[1:, 1:])
        total = 0.0
        for c in range(len(b) - 1):
            l = np.zeros(len(b))
            l[1:] = vecs[:, c]
            d = np.array([l @ m @ l for m in D])
            nu = 2 * (l @ C @ l) ** 2 / (d @ A @ d)
            total += nu / (nu - 2) if nu > 2 else 0.0
        q = len(b) - 1
        out["f"] = [float(b[1:] @ np.linalg.solve(C[1:, 1:], b[1:]) / q), float(2 * total / (total - q))]
    # Effects of groups and their errors (Henderson 1975): inverse of the mixed model equations.
    r = y - X @ b
    out["effects"], out["errors"] = [], []
    Zall = np.column_stack([l["Z"] for l in model.levels])
    Gall = np.zeros((Zall.shape[1],) * 2)
    at = 0
    for l, g in zip(model.levels, G):
        w = l["Z"].shape[1]
        Gall[at:at + w, at:at + w] = np.kron(np.eye(l["G"]), g)
        at += w
    u = Gall @ Zall.T @ Vi @ r
    P = Vi - Vi @ X @ C @ X.T @ Vi
    pev = np.diag(Gall - Gall @ Zall.T @ P @ Zall @ Gall)
    at = 0
    for l in model.levels:
        w = l["Z"].shape[1]
        out["effects"].append(u[at:at + w].reshape(l["G"], l["q"]).tolist())
        out["errors"].append(np.sqrt(np.maximum(pev[at:at + w], 0)).reshape(l["G"], l["q"]).tolist())
        at += w
    shares = [float(np.array(l["means"]) @ g @ np.array(l["means"])) for l, g in zip(model.levels, G)]
    out["shares"] = [v / (sum(shares) + s2) for v in shares]
    if model.restricted:
        out["kenward_roger"] = kenward_roger(model, s2, G, C, b)
    if not boundary:
        out["profiles"] = profiles(model, t)
    return out


def kenward_roger(model, s2, G, C, b):
    """Kenward & Roger (1997), with n x n matrices."""
    X = model.X
    n = len(model.y)
    Vi = np.linalg.inv(model.V(s2, G))
    dV = []
    for place, l in enumerate(model.levels):
        for a in range(l["q"]):
            for c in range(a, l["q"] if l["full"] else a + 1):
                E = np.zeros((l["q"], l["q"]))
                E[a, c] = E[c, a] = 1.0
                dV.append(l["Z"] @ np.kron(np.eye(l["G"]), E) @ l["Z"].T)
    dV.append(np.diag(model.R))
    r = len(dV)
    P = [-X.T @ Vi @ d @ Vi @ X for d in dV]
    Q = [[X.T @ Vi @ a @ Vi @ c @ Vi @ X for c in dV] for a in dV]
    I = np.array([[0.5 * (np.trace(Vi @ dV[i] @ Vi @ dV[j]) - 2 * np.trace(C @ Q[i][j]) + np.trace(C @ P[i] @ C @ P[j]))
                   for j in range(r)] for i in range(r)])
    W = np.linalg.inv(I)
    add = sum(W[i, j] * (Q[i][j] - P[i] @ C @ P[j]) for i in range(r) for j in range(r))
    CA = C + 2 * C @ add @ C

    def law(L):
        l = L.shape[1]
        T = L @ np.linalg.solve(L.T @ C @ L, L.T)
        M = [T @ C @ p @ C for p in P]
        A1 = sum(W[i, j] * np.trace(M[i]) * np.trace(M[j]) for i in range(r) for j in range(r))
        A2 = sum(W[i, j] * np.trace(M[i] @ M[j]) for i in range(r) for j in range(r))
        B = (A1 + 6 * A2) / (2 * l)
        g = ((l + 1) * A1 - (l + 4) * A2) / ((l + 2) * A2)
        den = 3 * l + 2 * (1 - g)
        c1, c2, c3 = g / den, (l - g) / den, (l + 2 - g) / den
        E = 1 / (1 - A2 / l)
        Vs = 2 / l * (1 + c1 * B) / ((1 - c2 * B) ** 2 * (1 - c3 * B))
        rho = Vs / (2 * E * E)
        m = 4 + (l + 2) / (l * rho - 1)
        return m, m / (E * (m - 2))

    eye = np.eye(len(b))
    m, scale = law(eye[:, 1:])
    q = len(b) - 1
    F = b[1:] @ np.linalg.solve(CA[1:, 1:], b[1:]) / q
    return {"se": np.sqrt(np.diag(CA)).tolist(), "df": [float(law(eye[:, [k]])[0]) for k in range(len(b))],
            "f": [float(scale * F), float(m)]}


def profiles(model, t):
    """Ends of 95 % intervals of sds and correlations."""
    best = model.at(t)
    allowed = st.chi2.ppf(0.95, 1)
    out = []
    for j in range(1, len(t)):
        free = [k for k in range(len(t)) if k != j]
        ends = []
        for direction in (-1, 1):
            warm = t.copy()

            def rise(v):
                w = warm.copy()
                w[j] = v
                w = model.minimise(w, free)
                return model.at(w) - best - allowed

            far, step, hit = t[j], 0.25, False
            for _ in range(40):
                far += direction * step
                if rise(far) > 0:
                    hit = True
                    break
                if direction < 0 and far < t[j] - 8:
                    break
                step *= 1.3
            ends.append(float(so.brentq(rise, t[j] + direction * 1e-6, far, xtol=1e-8)) if hit else None)
        out.append(ends)
    return out


if __name__ == "__main__":
    out = {"data": {kind: data(kind) for kind in ("one", "slope", "nested", "none")}, "cases": []}
    plain = [{"by": "g"}]
    for kind, levels, restricted, weighted, start in (
            ("one", plain, True, False, [0.0, -0.3]),
            ("one", plain, False, False, [0.0, -0.3]),
            ("one", plain, True, True, [0.0, -0.3]),
            ("slope", [{"by": "g", "slopes": ["x"]}], True, False, [0.0, -0.3, -0.7, 0.0]),
            ("slope", [{"by": "g", "slopes": ["x"]}], False, False, [0.0, -0.3, -0.7, 0.0]),
            ("slope", [{"by": "g", "slopes": ["x"], "covariance": "diagonal"}], True, False, [0.0, -0.3, -0.7]),
            ("nested", [{"by": "g"}, {"by": "k"}], True, False, [0.0, -0.3, -0.2]),
            ("none", plain, True, False, [0.0, -9.0])):
        model = Model(out["data"][kind], levels, restricted, weighted)
        found = results(model, np.array(start), boundary=kind == "none")
        print(kind, restricted, weighted, {k: found[k] for k in ("sigma", "covariances", "log_likelihood") if k in found},
              found.get("satterthwaite"), found.get("profiles"), flush=True)
        out["cases"].append({"data": kind, "levels": levels, "restricted": restricted, "weighted": weighted,
                             "boundary": kind == "none", **found})
    path = pathlib.Path(__file__).parent / "levels_reference.json"
    path.write_text(json.dumps(out, indent=1) + "\n", encoding="utf-8")
