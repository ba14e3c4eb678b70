#!/usr/bin/env python3
"""Reference values for counts, yes-no, ordered and grouped outcomes: outcomes_reference.json.

Every likelihood is written out from its definition in mpmath-free numpy with scipy.special, and
maximised by scipy from the truth and refined by Newton steps on second derivatives taken by complex
or central differences; errors from the same derivatives. Effects by differentiating the mean
numerically. Three data sets of each kind: one clean, one that fails (more spread, more zeros,
unbalanced), one awkward (few rows, ties, weights, an offset).
"""
import itertools
import json
import math
import pathlib

import mpmath as mp
import numpy as np
import scipy.optimize as so
import scipy.special as ss
import scipy.stats as st

from make_checks_reference import generator, normal

KINDS = ("clean", "fails", "awkward")


def count_data(kind):
    draw = generator({"clean": 71, "fails": 72, "awkward": 73}[kind])
    n = {"clean": 150, "fails": 200, "awkward": 40}[kind]
    out = {name: [] for name in ("y", "x", "g", "e", "w", "c", "z")}
    for i in range(n):
        x = round(normal(draw), 1 if kind == "awkward" else 3)
        g = i % 3 + 1
        e = round(0.5 + 2 * draw(), 2)
        z = round(normal(draw), 3)
        mu = e * math.exp(0.4 + 0.5 * x + 0.3 * (g == 2) - 0.2 * (g == 3))
        if kind != "clean":
            # A gamma of shape 2 by two exponentials.
            mu *= (-math.log(draw() + 1e-12) - math.log(draw() + 1e-12)) / 2
        u, y, p = draw(), 0, math.exp(-mu)
        total = p
        while u > total and y < 400:
            y += 1
            p *= mu / y
            total += p
        if kind == "fails" and draw() < 0.25:
            y = 0
        if kind == "awkward" and i == 7:
            y = 260
        for name, value in zip(out, (y, x, g, e, 0.5 + draw(), i // 4 + 1, z)):
            out[name].append(round(float(value), 4))
    return out


def yes_data(kind):
    draw = generator({"clean": 81, "fails": 82, "awkward": 83}[kind])
    n = {"clean": 160, "fails": 220, "awkward": 36}[kind]
    out = {name: [] for name in ("y", "o", "m", "s", "t", "x", "g", "w", "c")}
    for i in range(n):
        x = round(normal(draw), 1 if kind == "awkward" else 3)
        g = i % 2
        eta = (-1.8 if kind == "fails" else 0.2) + 0.8 * x - 0.5 * g
        latent = eta + math.log((draw() + 1e-12) / (1 - draw() * 0.999999))
        y = 1.0 if latent > 0 else 0.0
        o = sum(latent > cut for cut in (-1.0, 0.3, 1.5)) + 1
        m = 1 + int(3 * draw()) if draw() < 0.4 else 1 + (latent > -0.5) + (latent > 1)
        s = round(1 / (1 + math.exp(-(eta + 0.5 * normal(draw)))), 3)
        t = round(max(0.0, 1.0 + eta + normal(draw)), 3)
        for name, value in zip(out, (y, o, m, s, t, x, g, 0.5 + draw(), i // 5 + 1)):
            out[name].append(round(float(value), 4))
    return out


# ---- likelihoods of rows: f(theta, data) -> vector of l_i

def log_nb2(y, mu, alpha):
    a = 1 / alpha
    return ss.loggamma(y + a) - ss.loggamma(a) - ss.gammaln(y + 1) + a * np.log(a / (a + mu)) + y * np.log(mu / (a + mu))


def log_nb1(y, mu, delta):
    a = mu / delta
    return ss.loggamma(y + a) - ss.loggamma(a) - ss.gammaln(y + 1) - a * np.log(1 + delta) + y * np.log(delta / (1 + delta))


def log_poisson(y, mu, _):
    return y * np.log(mu) - mu - ss.gammaln(y + 1)


LAWS = {"poisson": log_poisson, "nb2": log_nb2, "nb1": log_nb1}


def logistic(z):
    return 1 / (1 + np.exp(-z))


def normal_cdf(z):
    # Entire: works with complex steps, too.
    return 0.5 * (1 + ss.erf(z / math.sqrt(2)))


class Model:
    """rows(theta) must accept complex theta: first derivatives by complex steps."""

    def __init__(self, rows, start, weights=None):
        self.rows = rows
        self.w = np.ones(len(rows(np.array(start, dtype=float)))) if weights is None else weights
        self.theta = np.array(start, dtype=float)

    def value(self, theta):
        return float((self.w * self.rows(theta)).sum().real)

    def scores(self, theta):
        p = len(theta)
        out = []
        for j in range(p):
            step = theta.astype(complex)
            step[j] += 1e-30j
            out.append(self.rows(step).imag / 1e-30)
        return np.array(out).T

    def hessian(self, theta):
        p = len(theta)
        H = np.zeros((p, p))
        for j in range(p):
            h = 1e-4 * max(1.0, abs(theta[j]))
            def gradient(at):
                moved = theta.copy()
                moved[j] += at
                return (self.w[:, None] * self.scores(moved)).sum(0)
            # Six-point central difference: error of the order h^6.
            H[:, j] = (45 * (gradient(h) - gradient(-h)) - 9 * (gradient(2 * h) - gradient(-2 * h)) + (gradient(3 * h) - gradient(-3 * h))) / (60 * h)
        return 0.5 * (H + H.T)

    def fit(self):
        f = lambda theta: -self.value(theta)
        g = lambda theta: -(self.w[:, None] * self.scores(theta)).sum(0)
        with np.errstate(all="ignore"):
            found = so.minimize(f, self.theta, jac=g, method="BFGS", options={"gtol": 1e-8, "maxiter": 5000})
            theta = found.x
            for _ in range(20):
                H = self.hessian(theta)
                step = np.linalg.solve(-H, (self.w[:, None] * self.scores(theta)).sum(0))
                theta = theta + step
                if np.abs(step).max() < 1e-13:
                    break
        self.theta = theta
        self.H = self.hessian(theta)
        return self

    def out(self, clusters, shown=None):
        """shown: derivative of what is shown of each parameter."""
        p = len(self.theta)
        n = len(self.w)
        inverse = np.linalg.inv(-self.H)
        S = self.scores(self.theta) * self.w[:, None]
        hc1 = n / (n - p) * inverse @ S.T @ S @ inverse
        groups = np.array(clusters)
        sums = np.array([S[groups == g].sum(0) for g in np.unique(groups)])
        G = len(sums)
        clustered = G / (G - 1) * (n - 1) / (n - p) * inverse @ sums.T @ sums @ inverse
        scale = np.ones(p) if shown is None else shown
        se = lambda V: (scale * np.sqrt(np.diag(V))).tolist()
        return {"b": self.theta.tolist(), "classical": se(inverse), "HC1": se(hc1), "clustered": se(clustered),
                "ll": self.value(self.theta)}


def design(d, offset):
    a = {k: np.array(v) for k, v in d.items()}
    g = a["g"]
    X = np.column_stack([np.ones(len(g)), a["x"]] + [(g == level).astype(float) for level in np.unique(g)[1:]])
    off = np.log(a["e"]) if offset else np.zeros(len(g))
    return a, X, off


def counts():
    out = {}
    for kind in KINDS:
        d = count_data(kind)
        one = {"data": d, "cases": {}}
        for weighted in ((False, True) if kind == "awkward" else (False,)):
            a, X, off = design(d, kind != "fails")
            y, k = a["y"], X.shape[1]
            w = a["w"] / a["w"].mean() if weighted else None
            tail = " weighted" if weighted else ""
            start = [math.log(y.mean() + 0.1)] + [0.0] * (k - 1)
            base = Model(lambda t: log_poisson(y, np.exp(X @ t + off), None), start, w).fit()
            case = base.out(a["c"])
            mu = np.exp(X @ base.theta + off)
            W = np.ones(len(y)) if w is None else w
            case["pearson"] = float((W * (y - mu) ** 2 / mu).sum())
            case["deviance"] = float((2 * W * (np.where(y > 0, y * np.log(np.where(y > 0, y, 1) / mu), 0) - (y - mu))).sum())
            h = W * mu * np.einsum("ij,jk,ik->i", X, np.linalg.inv(-base.H), X)
            S = X * ((y - mu) / (1 - h))[:, None] * W[:, None]
            inverse = np.linalg.inv(-base.H)
            case["HC3"] = np.sqrt(np.diag(inverse @ S.T @ S @ inverse)).tolist()
            null = Model(lambda t: log_poisson(y, np.exp(t[0] + off), None), start[:1], w).fit()
            case["null"] = null.value(null.theta)
            one["cases"]["poisson" + tail] = case
            for law in ("nb2", "nb1"):
                excess = (y - mu) ** 2 - y
                if (W * (excess if law == "nb2" else excess / mu)).sum() <= 0:
                    continue
                f = LAWS[law]
                m = Model(lambda t: f(y, np.exp(X @ t[:k] + off), np.exp(t[k])), list(base.theta) + [-0.5], w).fit()
                alpha = math.exp(m.theta[k])
                case = m.out(a["c"], np.r_[np.ones(k), alpha])
                case["alpha"] = alpha
                one["cases"][law + tail] = case
            if kind == "clean":
                one["effects"] = effects_of_counts(a, X, off, base)
            if weighted:
                continue
            Z = np.column_stack([np.ones(len(y)), a["z"]])
            for law in ("poisson", "nb2"):
                if kind == "clean" and law == "nb2":
                    continue
                f = LAWS[law]
                extra = [] if law == "poisson" else [-0.3]
                def logs(t, zero=False):
                    mu_t = np.exp(X @ t[:k] + off)
                    return f(np.zeros(len(y)) if zero else y, mu_t, np.exp(t[-1]))
                def inflated(t):
                    pi = logistic(Z @ t[k:k + 2])
                    return np.where(y == 0, np.log(pi + (1 - pi) * np.exp(logs(t, True))), np.log(1 - pi) + logs(t))
                def hurdle(t):
                    pi = logistic(Z @ t[k:k + 2])
                    return np.where(y == 0, np.log(1 - pi), np.log(pi) + logs(t) - np.log(1 - np.exp(logs(t, True))))
                for name, rows in (("zero-inflated", inflated), ("hurdle", hurdle)):
                    if name == "zero-inflated" and kind != "fails":
                        continue
                    m = Model(rows, list(base.theta) + [0.0, 0.0] + extra).fit()
                    shown = np.ones(len(m.theta))
                    if extra:
                        shown[-1] = math.exp(m.theta[-1])
                    one["cases"][f"{name} {law}"] = m.out(a["c"], shown)
                keep = y > 0
                def truncated(t):
                    mu_t = np.exp(X[keep] @ t[:k] + off[keep])
                    return f(y[keep], mu_t, np.exp(t[-1])) - np.log(1 - np.exp(f(np.zeros(keep.sum()), mu_t, np.exp(t[-1]))))
                m = Model(truncated, list(base.theta) + extra).fit()
                shown = np.ones(len(m.theta))
                if extra:
                    shown[-1] = math.exp(m.theta[-1])
                one["cases"][f"truncated {law}"] = m.out(a["c"][keep], shown)
        out[kind] = one
    out["fixed"] = fixed_effects()
    return out


def fixed_effects():
    d = count_data("clean")
    a = {k: np.array(v) for k, v in d.items()}
    C = (a["c"][:, None] == np.unique(a["c"])).astype(float)
    T = (a["g"][:, None] == np.unique(a["g"])[1:]).astype(float)
    keep = np.isin(a["c"], [c for c in np.unique(a["c"]) if a["y"][a["c"] == c].sum() > 0])
    y = a["y"][keep]
    X = np.column_stack([a["x"], a["z"]])[keep]
    held = np.column_stack([C, T])[keep]
    held = held[:, held.any(0)]
    full = np.column_stack([X, held])
    theta = np.zeros(full.shape[1])
    theta[2:2 + C[keep].any(0).sum()] = math.log(y.mean())
    for _ in range(60):
        mu = np.exp(full @ theta)
        step = np.linalg.lstsq(full.T @ (mu[:, None] * full), full.T @ (y - mu), rcond=1e-12)[0]
        theta = theta + step
        if np.abs(step).max() < 1e-13:
            break
    mu = np.exp(full @ theta)
    root = np.sqrt(mu)[:, None]
    swept = X - held @ np.linalg.lstsq(root * held, root * X, rcond=1e-12)[0]
    inverse = np.linalg.inv(swept.T @ (mu[:, None] * swept))
    S = swept * (y - mu)[:, None]
    groups = a["c"][keep]
    sums = np.array([S[groups == g].sum(0) for g in np.unique(groups)])
    G, n = len(sums), len(y)
    # Effects nested in the clusters do not count.
    counted = 2 + np.linalg.matrix_rank(held) - (C[keep].any(0).sum() - 1)
    V = G / (G - 1) * (n - 1) / (n - counted) * inverse @ sums.T @ sums @ inverse
    return {"data": d, "b": theta[:2].tolist(), "classical": np.sqrt(np.diag(inverse)).tolist(),
            "clustered": np.sqrt(np.diag(V)).tolist(), "n": int(n)}


def delta(f, theta, V):
    g = np.array([(f(theta + 1e-5 * e) - f(theta - 1e-5 * e)) / 2e-5 for e in np.eye(len(theta))])
    return [float(f(theta)), float(math.sqrt(g @ V @ g))]


def effects_of_counts(a, X, off, m):
    V = np.linalg.inv(-m.H)
    mean = lambda t, Z: np.exp(Z @ t + off).mean()
    h = 1e-6
    def slope(t):
        up, down = X.copy(), X.copy()
        up[:, 1] += h
        down[:, 1] -= h
        return (mean(t, up) - mean(t, down)) / (2 * h)
    def level(column):
        def f(t):
            on, offm = X.copy(), X.copy()
            on[:, 2:] = 0
            offm[:, 2:] = 0
            on[:, column] = 1
            return mean(t, on) - mean(t, offm)
        return f
    def elasticity(t):
        return float((t[1] * X[:, 1]).mean())
    return {"x": delta(slope, m.theta, V), "g=2": delta(level(2), m.theta, V), "g=3": delta(level(3), m.theta, V),
            "elasticity": delta(elasticity, m.theta, V),
            "at": delta(lambda t: math.exp(t[0] + 1.5 * t[1] + t[2]), m.theta, V)}


def yes_no():
    out = {}
    for kind in KINDS:
        d = yes_data(kind)
        a = {k: np.array(v) for k, v in d.items()}
        X = np.column_stack([np.ones(len(a["y"])), a["x"], a["g"]])
        one = {"data": d, "cases": {}}
        for weighted in ((False, True) if kind == "awkward" else (False,)):
            w = a["w"] / a["w"].mean() if weighted else None
            tail = " weighted" if weighted else ""
            y = a["y"]
            links = {"logit": logistic, "probit": normal_cdf, "cloglog": lambda z: 1 - np.exp(-np.exp(z))}
            for name, F in links.items():
                m = Model(lambda t: np.where(y == 1, np.log(F(X @ t)), np.log(1 - F(X @ t))), [0.0, 0.0, 0.0], w).fit()
                case = m.out(a["c"])
                V = np.linalg.inv(-m.H)
                W = np.ones(len(y)) if w is None else w
                h = 1e-6
                def slope(t, F=F):
                    up, down = X.copy(), X.copy()
                    up[:, 1] += h
                    down[:, 1] -= h
                    return float((W * (F(up @ t) - F(down @ t)).real).sum() / W.sum() / (2 * h))
                def switched(t, F=F):
                    on, offm = X.copy(), X.copy()
                    on[:, 2], offm[:, 2] = 1, 0
                    return float((W * (F(on @ t) - F(offm @ t)).real).sum() / W.sum())
                case["x"] = delta(slope, m.theta, V)
                case["g"] = delta(switched, m.theta, V)
                one["cases"][name + tail] = case
            s = a["s"]
            m = Model(lambda t: s * np.log(logistic(X @ t)) + (1 - s) * np.log(1 - logistic(X @ t)), [0.0, 0.0, 0.0], w).fit()
            one["cases"]["fractional-logit" + tail] = m.out(a["c"])
            # Firth: the penalised likelihood maximised as it is.
            def penalised(t):
                p = logistic(X @ t)
                W = p * (1 - p) if w is None else w * p * (1 - p)
                ll = y * np.log(p) + (1 - y) * np.log(1 - p)
                return float(((1 if w is None else w) * ll).sum() + 0.5 * np.linalg.slogdet(X.T @ (W[:, None] * X))[1])
            found = so.minimize(lambda t: -penalised(t), np.zeros(3), method="Nelder-Mead", options={"xatol": 1e-11, "fatol": 1e-15, "maxiter": 20000, "maxfev": 20000})
            t = found.x
            for _ in range(6):
                g = np.array([(penalised(t + 1e-5 * e) - penalised(t - 1e-5 * e)) / 2e-5 for e in np.eye(3)])
                H = np.array([[(penalised(t + 1e-3 * (e + f)) - penalised(t + 1e-3 * (e - f)) - penalised(t - 1e-3 * (e - f)) + penalised(t - 1e-3 * (e + f))) / 4e-6 for f in np.eye(3)] for e in np.eye(3)])
                t = t - np.linalg.solve(H, g)
            p = logistic(X @ t)
            I = X.T @ ((p * (1 - p) * (1 if w is None else w))[:, None] * X)
            se = np.sqrt(np.diag(np.linalg.inv(I)))
            # Profile: the best of the others with one coefficient held; where its fall is chance's.
            reach = 0.5 * st.chi2.ppf(0.95, 1)
            top = penalised(t)

            def fall(j, held):
                others = [i for i in range(3) if i != j]

                def rest(v):
                    full = np.empty(3)
                    full[j] = held
                    full[others] = v
                    return -penalised(full)

                best = so.minimize(rest, t[others], method="Nelder-Mead", options={"xatol": 1e-10, "fatol": 1e-14, "maxiter": 20000, "maxfev": 20000})
                return top + best.fun

            profile = []
            for j in range(3):
                ends = []
                for side in (-1, 1):
                    far = t[j] + side * 2 * se[j]
                    while fall(j, far) < reach:
                        far += side * se[j]
                    ends.append(so.brentq(lambda v: fall(j, v) - reach, t[j], far, xtol=1e-10))
                profile.append(ends)
            one["cases"]["firth" + tail] = {"b": t.tolist(), "classical": se.tolist(), "profile": profile,
                                            "p": [float(st.chi2.sf(2 * fall(j, 0.0), 1)) for j in range(3)]}
            # Ordered: slopes, then cuts.
            o = a["o"].astype(int)
            levels = np.unique(o)
            Xs = X[:, 1:]
            for name, F in (("ordered-logit", logistic), ("ordered-probit", normal_cdf)):
                place = np.searchsorted(levels, o)
                def ordered(t, F=F):
                    cuts = t[2:]
                    eta = Xs @ t[:2]
                    up = np.where(place < len(levels) - 1, F(cuts[np.minimum(place, len(cuts) - 1)] - eta), 1.0)
                    low = np.where(place > 0, F(cuts[np.maximum(place - 1, 0)] - eta), 0.0)
                    return np.log(up - low)
                shares = np.cumsum([(place == j).mean() for j in range(len(levels) - 1)])
                start = [0.0, 0.0] + [math.log(s / (1 - s)) * (1 if name == "ordered-logit" else 0.6) for s in shares]
                m = Model(ordered, start, w).fit()
                case = m.out(a["c"])
                V = np.linalg.inv(-m.H)
                W = np.ones(len(o)) if w is None else w
                h = 1e-6
                def share(t, j, Z, F=F):
                    eta = Z @ t[:2]
                    up = F(t[2 + j] - eta).real if j < len(levels) - 1 else np.ones(len(eta))
                    low = F(t[1 + j] - eta).real if j > 0 else np.zeros(len(eta))
                    return float((W * (up - low)).sum() / W.sum())
                def slope_of(j):
                    def f(t):
                        up, down = Xs.copy(), Xs.copy()
                        up[:, 0] += h
                        down[:, 0] -= h
                        return (share(t, j, up) - share(t, j, down)) / (2 * h)
                    return f
                case["x"] = [delta(slope_of(j), m.theta, V) for j in range(len(levels))]
                one["cases"][name + tail] = case
            g = a["m"].astype(int)
            groups = np.unique(g)
            place = np.searchsorted(groups, g)
            def several(t):
                eta = np.column_stack([np.zeros(len(g))] + [X @ t[3 * j:3 * j + 3] for j in range(len(groups) - 1)])
                return eta[np.arange(len(g)), place] - np.log(np.exp(eta).sum(1))
            m = Model(several, [0.0] * 3 * (len(groups) - 1), w).fit()
            case = m.out(a["c"])
            V = np.linalg.inv(-m.H)
            def of_group(j):
                def f(t):
                    total = []
                    for sign in (1, -1):
                        Z = X.copy()
                        Z[:, 1] += sign * 1e-6
                        eta = np.column_stack([np.zeros(len(g))] + [Z @ t[3 * q:3 * q + 3] for q in range(len(groups) - 1)])
                        p = np.exp(eta) / np.exp(eta).sum(1)[:, None]
                        W = np.ones(len(g)) if w is None else w
                        total.append((W * p[:, j]).sum() / W.sum())
                    return (total[0] - total[1]) / 2e-6
                return f
            case["x"] = [delta(of_group(j), m.theta, V) for j in range(len(groups))]
            one["cases"]["multinomial-logit" + tail] = case
            # Tobit, cut off at zero; the last parameter is ln sigma.
            t0 = a["t"]
            def tobit(t):
                eta, sigma = X @ t[:3], np.exp(t[3])
                z = (t0 - eta) / sigma
                return np.where(t0 > 0, -0.5 * z * z - t[3] - 0.5 * math.log(2 * math.pi), np.log(normal_cdf(-eta / sigma)))
            m = Model(tobit, [0.5, 0.0, 0.0, 0.0], w).fit()
            one["cases"]["tobit" + tail] = m.out(a["c"], np.r_[1, 1, 1, math.exp(m.theta[3])])
        out[kind] = one
    return out


def conditional():
    """Within groups: every way to say yes so often is written out."""
    out = {}
    for kind in KINDS:
        draw = generator({"clean": 101, "fails": 102, "awkward": 103}[kind])
        groups = {"clean": 60, "fails": 80, "awkward": 14}[kind]
        d = {name: [] for name in ("u", "y", "x", "z", "v", "w")}
        for u in range(groups):
            level = normal(draw) * (2 if kind == "fails" else 0.7)
            size = 2 + int(5 * draw())
            for _ in range(size):
                x = round(normal(draw) + 0.5 * level, 1 if kind == "awkward" else 3)
                z = float(draw() < 0.5)
                e = math.log((draw() + 1e-12) / (1 - draw() * 0.999999))
                d["u"].append(u + 1)
                d["x"].append(x)
                d["z"].append(z)
                d["y"].append(1.0 if level + 0.7 * x - 0.4 * z + e > 0 else 0.0)
                d["v"].append(u // 3 + 1)
                d["w"].append(0.5 + u % 3)
        a = {k: np.array(v) for k, v in d.items()}
        X = np.column_stack([a["x"], a["z"]])
        for weighted in (False, True):
            parts = []
            for u in np.unique(a["u"]):
                rows = np.where(a["u"] == u)[0]
                s = int(a["y"][rows].sum())
                if 0 < s < len(rows):
                    ways = np.array([X[list(c)].sum(0) for c in itertools.combinations(rows, s)])
                    parts.append((X[rows][a["y"][rows] == 1].sum(0), ways, a["v"][rows[0]], a["w"][rows[0]]))
            n = sum((a["u"] == u).sum() for u in np.unique(a["u"]) if 0 < a["y"][a["u"] == u].sum() < (a["u"] == u).sum())
            w = np.array([p[3] for p in parts])
            w = w if weighted else np.ones(len(parts))
            if weighted:
                sizes = np.array([(a["u"] == u).sum() for u in np.unique(a["u"]) if 0 < a["y"][a["u"] == u].sum() < (a["u"] == u).sum()])
                every = np.array(d["w"])
                w = w / every.mean()
            b = np.zeros(2)
            for _ in range(60):
                g, H, ll, scores = np.zeros(2), np.zeros((2, 2)), 0.0, []
                for (chosen, ways, _, _), wi in zip(parts, w):
                    e = np.exp(ways @ b)
                    p = e / e.sum()
                    m = p @ ways
                    scores.append(chosen - m)
                    g += wi * (chosen - m)
                    H += wi * ((ways - m).T @ ((ways - m) * p[:, None]))
                    ll += wi * (chosen @ b - math.log(e.sum()))
                step = np.linalg.solve(H, g)
                b = b + step
                if np.abs(step).max() < 1e-14:
                    break
            inverse = np.linalg.inv(H)
            S = np.array(scores) * w[:, None]
            hc1 = n / (n - 2) * inverse @ S.T @ S @ inverse
            labels = np.array([p[2] for p in parts])
            sums = np.array([S[labels == v].sum(0) for v in np.unique(labels)])
            G = len(sums)
            clustered = G / (G - 1) * (n - 1) / (n - 2) * inverse @ sums.T @ sums @ inverse
            se = lambda M: np.sqrt(np.diag(M)).tolist()
            out[kind + (" weighted" if weighted else "")] = {
                "data": d, "b": b.tolist(), "classical": se(inverse), "HC1": se(hc1), "clustered": se(clustered),
                "ll": ll, "n": int(n)}
    return out


def laws():
    """ln f(y) and its derivatives in extreme places, with 60 digits."""
    mp.mp.dps = 60
    out = []
    places = [(0, 1.0, 0.5), (3, 2.5, 0.7), (250, 180.0, 0.3), (250, 180.0, 1e-9), (10 ** 6, 9e5, 1e-3),
              (10 ** 9, 1.1e9, 0.2), (10 ** 9, 1.0e9, 1e-12), (5, 0.01, 3.0), (199, 150.0, 1e-6), (200, 150.0, 1e-6),
              (201, 150.0, 2e-5), (0, 1e-8, 1.0), (40, 40.0, 1e-14)]
    for y, mu, alpha in places:
        for law in ("quadratic", "linear"):
            def value(eta, tau):
                m, al = mp.e ** eta, mp.e ** tau
                a = 1 / al if law == "quadratic" else m / al
                q = al * m if law == "quadratic" else al
                return mp.loggamma(y + a) - mp.loggamma(a) - mp.loggamma(y + 1) - (y + a) * mp.log1p(q) + y * mp.log(q)
            eta, tau = mp.log(mp.mpf(mu)), mp.log(mp.mpf(alpha))
            d = lambda n, m: mp.diff(value, (eta, tau), (n, m))
            out.append({"law": law, "y": y, "eta": float(eta), "tau": float(tau),
                        "value": float(value(eta, tau)), "g": [float(d(1, 0)), float(d(0, 1))],
                        "h": [float(d(2, 0)), float(d(1, 1)), float(d(0, 2))]})
    return out


if __name__ == "__main__":
    here = pathlib.Path(__file__).parent
    result = {"counts": counts(), "yes-no": yes_no(), "laws": laws(), "conditional": conditional()}
    (here / "outcomes_reference.json").write_text(json.dumps(result) + "\n")
