#!/usr/bin/env python3
"""Reference values of traced systems, from explicit matrices and brute-force averages.

Each system is solved by the normal equations in plain numpy; the joint covariance by stacking the
scores of all equations; effects by listing every way by hand; their errors by complex-step
derivatives; natural effects by summing expected outcomes row by row over 400 Gauss-Hermite points
or over every value of what stands between. Written to paths_reference.json.
"""
import itertools
import json
import pathlib

import numpy as np
import scipy.optimize as so
import scipy.special as ss
import scipy.stats as st

rng = np.random.default_rng(20261130)
n = 160
x = rng.normal(2.0, 1.5, n)
z = 0.4 * x + rng.normal(0.0, 1.0, n)
w = (rng.random(n) < 0.45).astype(float)
g = rng.integers(0, 3, n).astype(float)
village = rng.integers(0, 16, n).astype(float)
m1 = 1.0 + 0.6 * x + 0.3 * z + 0.4 * (g == 1) - 0.3 * (g == 2) + rng.normal(0, 1, n) * (0.6 + 0.3 * w)
m2 = -0.5 + 0.5 * m1 + 0.2 * x + rng.normal(0, 1, n)
m3 = 0.3 * m2 - 0.2 * m1 + 0.1 * x + rng.normal(0, 0.8, n)
y = 2 + 0.5 * m1 + 0.25 * m2 + 0.3 * m3 + 0.2 * x + 0.35 * m1 * w - 0.4 * w + rng.normal(0, 1.2, n)
b = (rng.random(n) < ss.expit(-0.4 + 0.5 * m1 - 0.3 * x + 0.2 * z)).astype(float)
d = (rng.random(n) < ss.expit(-0.2 + 0.4 * x)).astype(float)
count = rng.poisson(np.exp(0.1 + 0.25 * x + 0.3 * d - 0.2 * z)).astype(float)
t = (rng.random(n) < 0.5).astype(float)
times = rng.integers(1, 4, n).astype(float)
data = {k: [float(v) for v in values] for k, values in {
    "x": x, "z": z, "w": w, "g": g, "village": village, "m1": m1, "m2": m2, "m3": m3, "y": y,
    "b": b, "d": d, "count": count, "t": t, "times": times}.items()}
columns = {k: np.array(v) for k, v in data.items()}
columns["g=1"] = (g == 1).astype(float)
columns["g=2"] = (g == 2).astype(float)
one = np.ones(n)


def column(name):
    parts = [columns[p] for p in name.split(" × ")]
    return np.prod(parts, axis=0)


class Equation:
    def __init__(self, to, terms, method="ls", weights=None):
        self.to, self.terms, self.method = to, terms, method
        self.X = np.column_stack([one] + [column(t) for t in terms])
        self.y = columns[to]
        self.w = one if weights is None else weights
        self.n = self.w.sum()
        k = self.X.shape[1]
        if method == "ls":
            self.A = np.linalg.inv(self.X.T @ (self.w[:, None] * self.X))
            self.b = self.A @ (self.X.T @ (self.w * self.y))
            self.e = self.y - self.X @ self.b
            self.df = self.n - k
            self.s2 = (self.w * self.e ** 2).sum() / self.df
        else:
            self.fit_likelihood()
            self.df = self.n - k

    def fit_likelihood(self):
        b = np.zeros(self.X.shape[1])
        for _ in range(100):
            eta = self.X @ b
            if self.method == "logit":
                mu = ss.expit(eta)
                s, h = self.y - mu, mu * (1 - mu)
            elif self.method == "poisson":
                mu = np.exp(eta)
                s, h = self.y - mu, mu
            else:
                q = 2 * self.y - 1
                r = q * st.norm.pdf(q * eta) / st.norm.cdf(q * eta)
                s, h = r, r * (eta + r)
            H = self.X.T @ (h[:, None] * self.X)
            step = np.linalg.solve(H, self.X.T @ s)
            b = b + step
            if np.abs(step).max() < 1e-14:
                break
        self.b, self.e, self.A = b, s, np.linalg.inv(H)


def joint(equations, kind, groups=None, counted=False):
    """Covariance of all coefficients; blocks as methods.md has them."""
    blocks = [[None] * len(equations) for _ in equations]
    for i, p in enumerate(equations):
        for j, q in enumerate(equations):
            if kind == "classical":
                if p.method == "ls" and q.method == "ls":
                    shared = (p.w * p.e * q.e).sum() / np.sqrt(p.df * q.df)
                    blocks[i][j] = shared * p.A @ (p.X.T @ (p.w[:, None] * q.X)) @ q.A
                elif i == j:
                    blocks[i][j] = p.A
                else:
                    U, V = p.X * p.e[:, None], q.X * q.e[:, None]
                    blocks[i][j] = p.A @ (U.T @ V) @ q.A
                continue
            def scaled(r):
                h = ((r.X @ r.A) * r.X).sum(axis=1)
                power = {"HC2": .5, "HC3": 1.0}.get(kind)
                return r.e / (1 - h) ** power if power else r.e
            U = p.X * scaled(p)[:, None]
            V = q.X * scaled(q)[:, None]
            root = np.sqrt(p.w) if counted else p.w
            U, V = U * root[:, None], V * root[:, None]
            c = 1.0
            if kind == "HC1":
                c = p.n / np.sqrt(p.df * q.df)
            if kind == "clustered":
                labels = np.unique(groups)
                U = np.array([U[groups == l].sum(axis=0) for l in labels])
                V = np.array([V[groups == l].sum(axis=0) for l in labels])
                G = len(labels)
                c = G / (G - 1) * (p.n - 1) / np.sqrt(p.df * q.df)
            blocks[i][j] = c * p.A @ (U.T @ V) @ q.A
    return np.block(blocks)


def arrows_at(equations, theta, at):
    """Size of every arrow: each column's coefficient times the other factors' values."""
    sizes, place = {}, 0
    for eq in equations:
        for j, term in enumerate(eq.terms):
            parts = term.split(" × ")
            for f, part in enumerate(parts):
                others = [at.get(o, columns[o].mean()) for k, o in enumerate(parts) if k != f]
                key = (part, eq.to)
                sizes[key] = sizes.get(key, 0) + theta[place + 1 + j] * np.prod(others)
        place += len(eq.terms) + 1
    return sizes


def ways(sizes, start, end):
    out, stack = [], [[start]]
    while stack:
        way = stack.pop()
        for (a, c) in sizes:
            if a == way[-1]:
                (out if c == end else stack).append(way + [c])
    return sorted(out, key=lambda way: (len(way), way))


def effects(equations, V, pairs, at=None):
    theta = np.concatenate([eq.b for eq in equations])
    at = at or {}
    listed = {}
    for start, end in pairs:
        found = ways(arrows_at(equations, theta, at), start, end)
        def value(th, which):
            s = arrows_at(equations, th, at)
            size = lambda way: np.prod([s[(a, c)] for a, c in zip(way, way[1:])])
            direct = sum(size(way) for way in found if len(way) == 2)
            indirect = sum(size(way) for way in found if len(way) > 2)
            return {"direct": direct, "indirect": indirect, "total": direct + indirect,
                    "share": indirect / (direct + indirect) if indirect != 0 else 0.0,
                    }.get(which) if isinstance(which, str) else size(which)
        def told(which):
            step = 1e-30
            slopes = np.array([value(theta + 1j * step * np.eye(len(theta))[k], which).imag / step
                               for k in range(len(theta))])
            est = value(theta, which)
            se = float(np.sqrt(slopes @ V @ slopes))
            return {"estimate": float(np.real(est)), "se": se}
        entry = {"total": told("total")}
        if any(len(way) == 2 for way in found):
            entry["direct"] = told("direct")
        if any(len(way) > 2 for way in found):
            entry["indirect"] = told("indirect")
            entry["share"] = told("share")
            entry["ways"] = {", ".join(way[1:-1]): told(way) for way in found if len(way) > 2}
        entry["scale"] = float(columns[start].std(ddof=1) / columns[end].std(ddof=1))
        listed[f"{start} -> {end}"] = entry
    return listed


def system(equations, pairs, kinds=("classical",), at=None, **more):
    out = {"equations": [{"to": e.to, "terms": e.terms, "b": list(map(float, e.b))}
                         for e in equations], "kinds": {}}
    for kind in kinds:
        V = joint(equations, kind, **more)
        out["kinds"][kind] = {"covariance": V.tolist(), "effects": effects(equations, V, pairs, at)}
    return out


out = {"data": data, "systems": {}}
S = out["systems"]
parallel = [Equation("m1", ["x", "z"]), Equation("m2", ["x", "z"]),
            Equation("y", ["m1", "m2", "x", "z"])]
S["parallel"] = system(parallel, [("x", "y"), ("z", "y"), ("x", "m1"), ("m1", "y")],
                       ("classical", "HC0", "HC1", "HC2", "HC3", "clustered"), groups=village)
S["serial"] = system([Equation("m1", ["x"]), Equation("m2", ["m1", "x"]),
                      Equation("m3", ["m2", "m1", "x"]), Equation("y", ["m3", "m2", "m1", "x"])],
                     [("x", "y"), ("m1", "y")], ("classical", "HC3"))
moderated = [Equation("m1", ["x", "w"]), Equation("y", ["m1", "x", "w", "m1 × w"])]
for value in (0.0, 1.0, None):
    name = "moderated" if value is None else f"moderated at {value:g}"
    S[name] = system(moderated, [("x", "y")], ("classical", "HC1"),
                     at={} if value is None else {"w": value})
# The difference of what passes at 1 and at 0: the cause's step times the product's coefficient.
V = joint(moderated, "HC1")
a, c = moderated[0].b[1], moderated[1].b[4]
slopes = np.zeros(8)
slopes[1], slopes[7] = c, a
S["moderated difference"] = {"estimate": float(a * c), "se": float(np.sqrt(slopes @ V @ slopes))}
S["grouped"] = system([Equation("m1", ["g=1", "g=2"]), Equation("y", ["m1", "g=1", "g=2"])],
                      [("g=1", "y"), ("g=2", "y")], ("classical", "HC3"))
counted = columns["times"]
S["counted"] = system([Equation("m1", ["x"], weights=counted), Equation("y", ["m1", "x"], weights=counted)],
                      [("x", "y")], ("classical", "HC1"), counted=True)
over = [Equation("m1", ["x", "z"]), Equation("m2", ["m1"]), Equation("y", ["m2", "x"])]
S["over"] = system(over, [("x", "y"), ("z", "y")], ("classical",))


def system_fit(equations, causes):
    names = causes + [e.to for e in equations]
    D = np.column_stack([columns[k] for k in names])
    C = np.cov(D.T)
    p, q = len(names), len(causes)
    B = np.zeros((p, p))
    Psi = np.zeros((p, p))
    Psi[:q, :q] = C[:q, :q]
    for e in equations:
        i = names.index(e.to)
        for term, b in zip(e.terms, e.b[1:]):
            B[i, names.index(term)] = b
        Psi[i, i] = (e.e ** 2).sum() / (n - 1)
    T = np.linalg.inv(np.eye(p) - B)
    M = T @ Psi @ T.T
    F = np.linalg.slogdet(M)[1] - np.linalg.slogdet(C)[1] + np.trace(C @ np.linalg.inv(M)) - p
    chi2 = (n - 1) * F
    paths = sum(len(e.terms) for e in equations)
    df = p * (p + 1) // 2 - (paths + len(equations) + q * (q + 1) // 2)
    base = np.diag(np.diag(C))
    base[:q, :q] = C[:q, :q]
    Fb = np.linalg.slogdet(base)[1] - np.linalg.slogdet(C)[1] + np.trace(C @ np.linalg.inv(base)) - p
    chib, dfb = (n - 1) * Fb, p * (p + 1) // 2 - (len(equations) + q * (q + 1) // 2)
    ends = []
    for prob in (.95, .05):
        f = lambda lam: st.ncx2.cdf(chi2, df, lam) - prob if lam > 0 else st.chi2.cdf(chi2, df) - prob
        ends.append(0.0 if f(0) < 0 else so.brentq(f, 0, 1e3, xtol=1e-13))
    r = C / np.sqrt(np.outer(np.diag(C), np.diag(C))) - M / np.sqrt(np.outer(np.diag(M), np.diag(M)))
    low = np.tril_indices(p)
    return {"chi2": chi2, "df": df, "p": st.chi2.sf(chi2, df),
            "cfi": 1 - max(chi2 - df, 0) / max(chib - dfb, chi2 - df, 0),
            "tli": (chib / dfb - chi2 / df) / (chib / dfb - 1),
            "rmsea": np.sqrt(max(chi2 - df, 0) / (df * (n - 1))),
            "rmsea_low": np.sqrt(ends[0] / (df * (n - 1))),
            "rmsea_high": np.sqrt(ends[1] / (df * (n - 1))),
            "srmr": np.sqrt((r[low] ** 2).mean())}


S["over"]["fit"] = {k: float(v) for k, v in system_fit(over, ["x", "z"]).items()}
S["close"] = {"fit": {k: float(v) for k, v in system_fit(
    [Equation("m1", ["x"]), Equation("m2", ["m1", "x"]), Equation("y", ["m2", "m1", "x"])] , ["x", "z"]).items()}}

# The path that is missed most, by adding each.
def added(to, terms, more):
    small, big = Equation(to, terms), Equation(to, terms + [more])
    return float(big.b[-1] ** 2 / (big.s2 * big.A[-1, -1]))
S["over"]["added"] = {"x -> m2": added("m2", ["m1"], "x"), "z -> m2": added("m2", ["m1"], "z"),
                      "m1 -> y": added("y", ["m2", "x"], "m1"), "z -> y": added("y", ["m2", "x"], "z")}

# The correlation of errors at which the way vanishes, by searching where its coefficient does.
X = np.column_stack([one, x, z])
M = np.eye(n) - X @ np.linalg.inv(X.T @ X) @ X.T
e1, e2 = M @ y, M @ m1
S["sensitivity"] = {"rho_zero": float(e1 @ e2 / np.sqrt((e1 @ e1) * (e2 @ e2)))}
b2 = np.linalg.lstsq(X, m1, rcond=None)[0][1]
def indirect_at(rho):
    r = e1 @ e2 / np.sqrt((e1 @ e1) * (e2 @ e2))
    # The slope on m1 that leaves errors correlating rho: solve for it directly.
    def off(slope):
        left = e1 - slope * e2
        return (left @ e2) / np.sqrt((left @ left) * (e2 @ e2)) - rho
    return float(b2 * so.brentq(off, -50, 50, xtol=1e-14))
S["sensitivity"]["indirect"] = {str(rho): indirect_at(rho) for rho in (-.5, -.1, .2, .6)}

# Natural effects, row by row.
nodes, node_weights = np.polynomial.hermite_e.hermegauss(180)
node_weights = node_weights / node_weights.sum()
LINK = {"ls": lambda v: v, "logit": ss.expit, "probit": st.norm.cdf, "poisson": np.exp}


def index(eq, i, set_):
    total = eq.b[0]
    for b, term in zip(eq.b[1:], eq.terms):
        value = b
        for part in term.split(" × "):
            value = value * set_.get(part, columns[part][i])
        total = total + value
    return total


def expected(i, cause, value, other, between, last, held):
    """E[Y(value, M(other))] of row i."""
    def walk(k, set_):
        if k == len(between):
            return LINK[last.method](index(last, i, {**set_, cause: value}))
        eq = between[k]
        at = index(eq, i, {**set_, cause: other})
        if eq.method == "ls":
            points = at + np.sqrt(eq.s2) * nodes
            return sum(w_ * walk(k + 1, {**set_, eq.to: v}) for v, w_ in zip(points, node_weights))
        mean = LINK[eq.method](at)
        if eq.method == "poisson":
            top = int(mean + 14 * np.sqrt(mean) + 30)
            return sum(st.poisson.pmf(c, mean) * walk(k + 1, {**set_, eq.to: c}) for c in range(top))
        return (1 - mean) * walk(k + 1, {**set_, eq.to: 0.0}) + mean * walk(k + 1, {**set_, eq.to: 1.0})
    return walk(0, dict(held))


def natural(between, last, cause, change, held=None):
    held = held or {}
    a_, b_ = change
    rows = [(expected(i, cause, a_, a_, between, last, held),
             expected(i, cause, b_, a_, between, last, held),
             expected(i, cause, b_, b_, between, last, held)) for i in range(n)]
    none, direct, both = np.mean(rows, axis=0)
    return {"direct": float(direct - none), "indirect": float(both - direct),
            "total": float(both - none), "change": [float(a_), float(b_)],
            "equations": [list(map(float, e.b)) for e in between + [last]]}


half = (x.mean() - x.std(ddof=1) / 2, x.mean() + x.std(ddof=1) / 2)
out["natural"] = {
    "logit outcome": natural([Equation("m1", ["x", "z"])], Equation("b", ["m1", "x", "z"], "logit"), "x", half),
    "probit outcome": natural([Equation("m1", ["x"])], Equation("b", ["m1", "x"], "probit"), "x", (1.0, 3.0)),
    "logit between": natural([Equation("d", ["x"], "logit")], Equation("y", ["d", "x"]), "x", half),
    "poisson outcome": natural([Equation("d", ["t", "z"], "logit")],
                               Equation("count", ["d", "t", "z"], "poisson"), "t", (0.0, 1.0)),
    "poisson between": natural([Equation("count", ["t", "z"], "poisson")],
                               Equation("b", ["count", "t"], "logit"), "t", (0.0, 1.0)),
    "chain": natural([Equation("m1", ["x"]), Equation("m2", ["m1", "x"])],
                     Equation("b", ["m1", "m2", "x"], "logit"), "x", half),
    "product": natural([Equation("m1", ["x"])], Equation("b", ["m1", "x", "m1 × x"], "logit"), "x", half),
    "moderated": natural([Equation("m1", ["x", "w"])], Equation("b", ["m1", "x", "w", "m1 × w"], "logit"),
                         "x", half, {"w": 1.0}),
    "mixed": natural([Equation("m1", ["x"]), Equation("d", ["m1", "x"], "logit")],
                     Equation("b", ["m1", "d", "x"], "logit"), "x", half),
}
# The delta error of one of them, by central differences in the joint covariance of both equations.
m_eq, b_eq = Equation("m1", ["x", "z"]), Equation("b", ["m1", "x", "z"], "logit")
V = joint([m_eq, b_eq], "classical")
theta = np.concatenate([m_eq.b, b_eq.b])
def indirect(th):
    m_eq.b, b_eq.b = th[:3], th[3:]
    a_, b_ = half
    mean = m_eq.X @ m_eq.b - m_eq.b[1] * x
    tot = 0.0
    for node, wt in zip(nodes, node_weights):
        base = b_eq.b[0] + b_eq.b[2] * b_ + b_eq.b[3] * z
        hi = ss.expit(base + b_eq.b[1] * (mean + m_eq.b[1] * b_ + np.sqrt(m_eq.s2) * node))
        lo = ss.expit(base + b_eq.b[1] * (mean + m_eq.b[1] * a_ + np.sqrt(m_eq.s2) * node))
        tot += wt * (hi - lo).mean()
    return tot
h = 1e-3
grad = np.array([(8 * (indirect(theta + h * u) - indirect(theta - h * u))
                  - (indirect(theta + 2 * h * u) - indirect(theta - 2 * h * u))) / (12 * h)
                 for u in np.eye(7)])
out["natural"]["logit outcome"]["indirect_se"] = float(np.sqrt(grad @ V @ grad))

path = pathlib.Path(__file__).with_name("paths_reference.json")
path.write_text(json.dumps(out, ensure_ascii=False, indent=1) + "\n", encoding="utf-8")
print("written", path)
