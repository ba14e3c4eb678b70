#!/usr/bin/env python3
"""Reference values for instruments, panels and survey errors: causes_reference.json.

Every number from its definition with numpy: projections by lstsq on explicit matrices, effects by
explicit indicators, sums of scores by loops over clusters, moments and strata, continuously updated
GMM by minimising with scipy from several starts. Three data sets of each kind: one clean, one that
fails (weak instruments and uneven spread; effects that correlate and errors that echo), one awkward
(few rows, ties, weights, gaps).
"""
import json
import math
import pathlib

import numpy as np
import scipy.linalg as sl
import scipy.optimize as so
import scipy.stats as st

from make_checks_reference import generator, normal


def iv_data(kind):
    draw = generator({"clean": 11, "fails": 12, "awkward": 13}[kind])
    n = {"clean": 150, "fails": 200, "awkward": 26}[kind]
    names = ("y", "p", "q", "x", "z1", "z2", "z3", "c", "w", "t")
    out = {name: [] for name in names}
    strength = {"clean": 1.0, "fails": 0.12, "awkward": 1.2}[kind]
    for i in range(n):
        x = round(2 * draw(), 3)
        z1, z2, z3 = (round(normal(draw), 3) for _ in range(3))
        if kind == "awkward":
            z1, z2 = float(round(z1)), float(round(2 * z2)) / 2
        u, v, r = normal(draw), normal(draw), normal(draw)
        p = 0.5 * x + strength * (z1 + 0.5 * z2) + 0.7 * u + 0.6 * v
        q = -0.3 * x + strength * (0.8 * z3 - 0.4 * z1) + 0.4 * u + 0.8 * r
        spread = 0.4 + (0.8 * x + 0.3 * abs(z1) if kind == "fails" else 0.0)
        y = 1 + 0.8 * p - 0.5 * q + 0.4 * x + spread * (u + 0.3 * normal(draw))
        if kind == "fails":
            y += 0.35 * z2
        for name, value in zip(names, (y, p, q, x, z1, z2, z3, i // 5 + 1, 0.4 + draw(), i + 1)):
            out[name].append(round(float(value), 4))
    return out


def solve(A, b):
    return np.linalg.lstsq(A, b, rcond=1e-13)[0]


def project(W, A):
    return W @ solve(W, A)


def moment_sum(U, kind, d):
    """The meat of scores U by the kind of errors, without factors for small samples."""
    if kind == "HC1":
        return U.T @ U
    if kind == "clustered":
        c = np.array(d["c"])
        sums = (c == np.unique(c)[:, None]).astype(float) @ U
        return sums.T @ sums
    if kind == "autocorrelation":
        total = U.T @ U
        for lag in range(1, 4):
            G = U[lag:].T @ U[:-lag]
            total += (1 - lag / 4) * (G + G.T)
        return total
    raise ValueError(kind)


def factor(kind, d, n, k):
    if kind == "clustered":
        g = len(set(d["c"]))
        return g / (g - 1) * (n - 1) / (n - k)
    return n / (n - k)


class Iv:
    def __init__(self, d, endogenous, weighted):
        self.d = d
        root = np.sqrt(np.array(d["w"])) if weighted else np.ones(len(d["y"]))
        if weighted:
            root = root / math.sqrt((root ** 2).mean())
        col = lambda name: np.array(d[name]) * root
        self.y = col("y")
        self.D = np.column_stack([col(name) for name in endogenous])
        self.E = np.column_stack([root, col("x")])
        self.Z = np.column_stack([col("z1"), col("z2"), col("z3")])
        self.X = np.column_stack([root, self.D, col("x")])
        self.W = np.column_stack([self.E, self.Z])
        self.n, self.k = self.X.shape
        self.L = self.W.shape[1]

    def kclass(self, kappa):
        MX = self.X - project(self.W, self.X)
        My = self.y - project(self.W, self.y)
        A = self.X.T @ self.X - kappa * MX.T @ MX
        b = np.linalg.solve(A, self.X.T @ self.y - kappa * MX.T @ My)
        return b, A, self.y - self.X @ b

    def liml(self):
        if self.Z.shape[1] == self.D.shape[1]:
            return 1.0
        Y = np.column_stack([self.y, self.D])
        outer = Y - project(self.E, Y)
        inner = Y - project(self.W, Y)
        return float(sl.eigh(outer.T @ outer, inner.T @ inner, eigvals_only=True)[0])

    def errors(self, A, e, kind):
        inverse = np.linalg.inv(A)
        if kind == "classical":
            return e @ e / (self.n - self.k) * inverse
        U = project(self.W, self.X) * e[:, None]
        return factor(kind, self.d, self.n, self.k) * inverse @ moment_sum(U, kind, self.d) @ inverse

    def kclass_out(self, kappa):
        b, A, e = self.kclass(kappa)
        out = {"kappa": kappa, "b": b.tolist()}
        for kind in ("classical", "HC1", "clustered", "autocorrelation"):
            out[kind] = np.sqrt(np.diag(self.errors(A, e, kind))).tolist()
        return out

    def weight(self, e, kind):
        if kind == "classical":
            return e @ e / self.n * self.W.T @ self.W
        return moment_sum(self.W * e[:, None], kind, self.d)

    def gmm(self, steps, kind):
        ZX, Zy = self.W.T @ self.X, self.W.T @ self.y
        def fit(S):
            A = ZX.T @ np.linalg.solve(S, ZX)
            return np.linalg.solve(A, ZX.T @ np.linalg.solve(S, Zy))
        def criterion(b, S=None):
            e = self.y - self.X @ b
            g = self.W.T @ e
            return float(g @ np.linalg.solve(self.weight(e, kind) if S is None else S, g))
        b = self.kclass(1.0)[0]
        S = self.weight(self.y - self.X @ b, kind)
        b = fit(S)
        j = criterion(b, S)
        if steps != "two":
            done = False
            for _ in range(2000):
                S = self.weight(self.y - self.X @ b, kind)
                new = fit(S)
                done = np.abs(new - b).max() < 1e-13
                b = new
                if done:
                    break
            j = criterion(b, S)
            if not done and steps == "iterated":
                return None
        if steps == "continuous":
            scale = np.sqrt(np.diag(np.linalg.inv(self.X.T @ self.X)))
            ends = []
            for start in (b, self.kclass(1.0)[0]):
                at = start
                for _ in range(3):
                    found = so.minimize(lambda u: criterion(at + scale * u), np.zeros(self.k),
                                        method="BFGS", jac="3-point", options={"gtol": 1e-9})
                    at = at + scale * found.x
                ends.append((found.fun, at))
            best = min(ends, key=lambda one: one[0])
            # Without one well-defined smallest value there is nothing to compare.
            if np.abs(best[1]).max() > 50 or np.abs(ends[0][1] - ends[1][1]).max() > 1e-6:
                return None
            j, b = float(best[0]), best[1]
        S = self.weight(self.y - self.X @ b, kind)
        if kind == "classical":
            S = S * self.n / (self.n - self.k)
        else:
            S = S * factor(kind, self.d, self.n, self.k)
        V = np.linalg.inv(ZX.T @ np.linalg.solve(S, ZX))
        return {"b": b.tolist(), "se": np.sqrt(np.diag(V)).tolist(), "j": j}

    def first_stages(self):
        out = []
        for j in range(self.D.shape[1]):
            x = self.D[:, j]
            b = solve(self.W, x)
            v = x - self.W @ b
            r = x - project(self.E, x)
            partial = 1 - v @ v / (r @ r)
            q = self.Z.shape[1]
            df = self.n - self.L
            inverse = np.linalg.inv(self.W.T @ self.W)
            one = {"b": b.tolist(), "partial": float(partial),
                   "classical": float(partial / (1 - partial) * df / q)}
            for kind in ("HC1", "clustered"):
                V = factor(kind, self.d, self.n, self.L) * inverse @ moment_sum(self.W * v[:, None], kind, self.d) @ inverse
                own = slice(self.E.shape[1], None)
                one[kind] = float(b[own] @ np.linalg.solve(V[own, own], b[own]) / q)
            out.append(one)
        return out

    # ---- checks
    def checks(self):
        out = {}
        n, k, L = self.n, self.k, self.L
        l, g = self.Z.shape[1], self.D.shape[1]
        over = l - g
        b, A, e = self.kclass(1.0)
        Pe = project(self.W, e)
        if over > 0:
            sargan = float(n * (Pe @ Pe) / (e @ e))
            basmann = float((n - L) * (Pe @ Pe) / (e @ e - Pe @ Pe))
            out["sargan"] = [sargan, float(st.chi2.sf(sargan, over))]
            out["basmann"] = [basmann, float(st.chi2.sf(basmann, over))]
            for kind in ("HC1", "clustered"):
                j = self.gmm("two", kind)["j"]
                out["hansen " + kind] = [j, float(st.chi2.sf(j, over))]
        V = self.D - project(self.W, self.D)
        big = np.column_stack([self.X, V])
        c = solve(big, self.y)
        u = self.y - big @ c
        r0 = self.y - project(self.X, self.y)
        f = (r0 @ r0 - u @ u) / g / (u @ u / (n - k - g))
        out["wu-hausman"] = [float(f), float(st.f.sf(f, g, n - k - g))]
        ols = solve(self.X, self.y)
        eo = self.y - self.X @ ols
        # Durbin: variances from the residuals of least squares throughout.
        s2 = eo @ eo / n
        full = np.column_stack([self.X, V])
        explained = r0 @ r0 - u @ u
        durbin = float(explained / s2)
        out["durbin"] = [durbin, float(st.chi2.sf(durbin, g))]
        inverse = np.linalg.inv(big.T @ big)
        for kind in ("HC1", "clustered"):
            C = factor(kind, self.d, n, k + g) * inverse @ moment_sum(big * u[:, None], kind, self.d) @ inverse
            wald = float(c[k:] @ np.linalg.solve(C[k:, k:], c[k:]) / g)
            df = n - k - g if kind == "HC1" else len(set(self.d["c"])) - 1
            out["endogeneity " + kind] = [wald, float(st.f.sf(wald, g, df))]
        # Weak instruments.
        Y = self.D - project(self.E, self.D)
        Zt = self.Z - project(self.E, self.Z)
        Yhat = project(Zt, Y)
        Sigma = (Y - Yhat).T @ (Y - Yhat) / (n - L)
        roots = sl.eigh(Yhat.T @ Yhat, Sigma, eigvals_only=True)
        out["cragg-donald"] = float(roots[0] / l)
        cc = sl.eigh(Yhat.T @ Yhat, Y.T @ Y, eigvals_only=True)
        anderson = float(n * cc[0])
        out["anderson"] = [anderson, float(st.chi2.sf(anderson, l - g + 1))]
        # Shea: the part of a term that the others, too, leave of it, against its projection.
        shea = []
        vols = np.linalg.inv(self.X.T @ self.X)
        viv = np.linalg.inv(A)
        for j in range(g):
            shea.append(float(vols[1 + j, 1 + j] / viv[1 + j, 1 + j]))
        out["shea"] = shea
        for kind in ("HC1", "clustered"):
            out["kleibergen-paap " + kind] = self.kleibergen_paap(Y, Zt, kind)
        if g == 1:
            Q, _ = np.linalg.qr(Zt)
            pi = Q.T @ Y[:, 0]
            v = Y[:, 0] - Q @ pi
            for kind in ("HC1", "clustered"):
                W2 = factor(kind, self.d, n, L) * moment_sum(Q * v[:, None], kind, self.d)
                feff = float(pi @ pi / np.trace(W2))
                x = 10.0
                keff = np.trace(W2) ** 2 * (1 + 2 * x) / (np.trace(W2 @ W2) + 2 * x * np.trace(W2) * np.linalg.eigvalsh(W2)[-1])
                critical = float(st.ncx2.isf(0.05, keff, keff * x) / keff)
                out["effective " + kind] = [feff, float(keff), critical]
        # Anderson-Rubin at b = 0: the instruments in the reduced form of y.
        base = self.y - project(self.E, self.y)
        full = self.y - project(self.W, self.y)
        ar = (base @ base - full @ full) / l / (full @ full / (n - L))
        out["anderson-rubin"] = [float(ar), float(st.f.sf(ar, l, n - L))]
        if g == 1:
            # Ends of the set where F(b0) is at the critical value: a quadratic in b0.
            crit = st.f.isf(0.05, l, n - L)
            Yv = Y[:, 0]
            yt = base
            P = lambda a, b2: float(project(Zt, a) @ b2)
            c2 = crit * l / (n - L)
            q = lambda a, b2: P(a, b2) * (1 + c2) - c2 * float(a @ b2)
            aa, bb, cc2 = q(Yv, Yv), -2 * q(Yv, yt), q(yt, yt)
            disc = bb * bb - 4 * aa * cc2
            out["anderson-rubin set"] = {"a": aa, "disc": disc,
                                         "ends": sorted(((-bb - math.sqrt(disc)) / (2 * aa), (-bb + math.sqrt(disc)) / (2 * aa))) if disc > 0 else []}
        return out

    def kleibergen_paap(self, Y, Zt, kind):
        """rk statistic for rank g - 1 (Kleibergen & Paap 2006), as a Wald chi-square and its F."""
        n, L = self.n, self.L
        l, g = Zt.shape[1], Y.shape[1]
        Pi = solve(Zt, Y)                       # l x g
        V = Y - Zt @ Pi
        G = np.linalg.cholesky(np.linalg.inv(V.T @ V / n)).T      # G'G = inverse of the residual variance
        F = np.linalg.cholesky(Zt.T @ Zt / n).T                   # F'F = Zt'Zt/n
        Theta = F @ Pi @ G.T
        U, s, Wt = np.linalg.svd(Theta)
        q = g - 1
        W = Wt.T
        U12, U22 = U[:q, q:], U[q:, q:]
        W12, W22 = W[:q, q:], W[q:, q:]
        def root(M):
            values, vectors = np.linalg.eigh(M)
            return vectors @ np.diag(np.sqrt(np.maximum(values, 0))) @ vectors.T
        Aq = U[:, q:] @ np.linalg.solve(U22, root(U22 @ U22.T))    # l x (l-q)
        Bq = root(W22 @ W22.T) @ np.linalg.solve(W22.T, W[:, q:].T)  # (g-q) x g
        lam = (Aq.T @ Theta @ Bq.T).reshape(-1, order="F")
        # Variance of vec(Theta): scores of F'^-1 z v' G'.
        scores = np.einsum("ij,ik->ikj", Zt @ np.linalg.inv(F), V @ G.T).reshape(n, -1)  # vec by columns
        S = moment_sum(scores, kind, self.d) / n
        K = np.kron(Bq, Aq.T)
        Omega = K @ S @ K.T
        rk = float(n * lam @ np.linalg.solve(Omega, lam))
        fac = factor(kind, self.d, n, L)
        return [rk, float(st.chi2.sf(rk, l - g + 1)), rk / fac / l]


def iv():
    out = {}
    for kind in ("clean", "fails", "awkward"):
        d = iv_data(kind)
        out[kind] = {"data": d, "cases": {}}
        for endogenous in (["p"], ["p", "q"]):
            for weighted in ((False, True) if kind == "awkward" else (False,)):
                model = Iv(d, endogenous, weighted)
                liml = model.liml()
                case = {"endogenous": endogenous, "weighted": weighted,
                        "two-stage": model.kclass_out(1.0), "liml": model.kclass_out(liml),
                        "fuller": model.kclass_out(liml - 1 / (model.n - model.L)),
                        "first": model.first_stages(), "checks": model.checks()}
                for steps in ("two", "iterated", "continuous"):
                    for errors in ("classical", "HC1", "clustered"):
                        case[f"gmm {steps} {errors}"] = model.gmm(steps, errors)
                name = "+".join(endogenous) + (" weighted" if weighted else "")
                out[kind]["cases"][name] = case
    return out


# ---- panels

def panel_data(kind):
    draw = generator({"clean": 21, "fails": 22, "awkward": 23}[kind])
    units, moments = {"clean": (20, 6), "fails": (25, 8), "awkward": (9, 5)}[kind]
    out = {name: [] for name in ("u", "t", "y", "x", "z", "s")}
    shared = [normal(draw) for _ in range(moments)]
    for u in range(units):
        a = 0.8 * normal(draw)
        fixed = round(draw(), 2)
        e = normal(draw)
        for t in range(moments):
            if kind == "awkward" and draw() < 0.25 and t > 0:
                continue
            if kind == "fails" and draw() < 0.1:
                continue
            x = round(normal(draw) + (0.9 * a if kind == "fails" else 0.0), 2)
            z = round(2 * draw(), 1)
            if kind == "awkward":
                x = float(round(x))
            e = (0.6 * e + 0.8 * normal(draw)) if kind == "fails" else normal(draw)
            y = 1 + 0.7 * x - 0.4 * z + 0.5 * fixed + a + 0.6 * e
            if kind == "fails":
                y += 0.9 * shared[t]
            for name, value in zip(("u", "t", "y", "x", "z", "s"), (u + 1, 2010 + t, y, x, z, fixed)):
                out[name].append(round(float(value), 4))
    return out


def indicators(values):
    levels = sorted(set(values))
    return np.array([[float(v == l) for l in levels] for v in values])


def cluster_meat(U, groups):
    sums = (np.array(groups) == np.unique(groups)[:, None]).astype(float) @ U
    return sums.T @ sums


def white_meat(U):
    return U.T @ U


def panel(kind):
    d = panel_data(kind)
    u, t = np.array(d["u"]), np.array(d["t"])
    counts = {v: int((u == v).sum()) for v in set(u)}
    keep = np.array([counts[v] > 1 for v in u])
    y, x, z, fixed = (np.array(d[name]) for name in ("y", "x", "z", "s"))
    out = {"data": d}

    def dummy_fit(rows, groupings):
        """Slopes of x and z beside all indicators; errors from the whole regression."""
        D = np.column_stack([indicators(g[rows]) for g in groupings])
        S = np.column_stack([x[rows], z[rows]])
        yy = y[rows]
        left = S - project(D, S)
        yl = yy - project(D, yy)
        b = solve(left, yl)
        e = yl - left @ b
        n = len(yy)
        rank = np.linalg.matrix_rank(D)
        inverse = np.linalg.inv(left.T @ left)
        df = n - rank - 2
        uu = u[rows]
        g = len(set(uu))
        # Nested effects do not count, a constant does; effects of moments count.
        extra = rank - g
        V = inverse @ cluster_meat(left * e[:, None], uu) @ inverse * g / (g - 1) * (n - 1) / (n - 2 - 1 - extra)
        one = {"b": b.tolist(), "classical": np.sqrt(e @ e / df * np.diag(inverse)).tolist(),
               "clustered": np.sqrt(np.diag(V)).tolist(), "df": int(df), "n": n,
               "within": float(1 - e @ e / (yl @ yl)), "r2": float(1 - e @ e / ((yy - yy.mean()) ** 2).sum())}
        lags = int(4 * (len(set(t[rows])) / 100) ** (2 / 9))
        S2 = np.zeros((2, 2))
        times = sorted(set(t[rows]))
        h = {v: (left * e[:, None])[t[rows] == v].sum(axis=0) for v in times}
        for v in times:
            S2 += np.outer(h[v], h[v])
            for lag in range(1, lags + 1):
                if v - lag in h:
                    G = np.outer(h[v], h[v - lag])
                    S2 += (1 - lag / (lags + 1)) * (G + G.T)
        one["panel-autocorrelation"] = np.sqrt(np.diag(n / df * inverse @ S2 @ inverse)).tolist()
        return one, e
    rows = np.where(keep)[0]
    out["within"], _ = dummy_fit(rows, [u])
    out["two-way"], _ = dummy_fit(rows, [u, t])

    # Means of units, changes, random effects.
    X = np.column_stack([np.ones_like(y), x, z, fixed])
    ids = sorted(set(u))
    mean = lambda a: np.array([a[u == v].mean(axis=0) for v in ids])
    Xm, ym = mean(X), mean(y)
    b = solve(Xm, ym)
    e = ym - Xm @ b
    V = e @ e / (len(ids) - 4) * np.linalg.inv(Xm.T @ Xm)
    out["between"] = {"b": b.tolist(), "classical": np.sqrt(np.diag(V)).tolist(), "n": len(ids)}

    pairs = [(i, j) for i in range(len(y)) for j in range(len(y)) if u[i] == u[j] and t[i] == t[j] + 1]
    later, earlier = np.array([p[0] for p in pairs]), np.array([p[1] for p in pairs])
    dX = np.column_stack([np.ones(len(pairs)), x[later] - x[earlier], z[later] - z[earlier]])
    dy = y[later] - y[earlier]
    b = solve(dX, dy)
    e = dy - dX @ b
    inverse = np.linalg.inv(dX.T @ dX)
    g = len(set(u[later]))
    n = len(dy)
    V = inverse @ cluster_meat(dX * e[:, None], u[later]) @ inverse * g / (g - 1) * (n - 1) / (n - 3)
    out["first-difference"] = {"b": b.tolist(), "classical": np.sqrt(e @ e / (n - 3) * np.diag(inverse)).tolist(),
                               "clustered": np.sqrt(np.diag(V)).tolist(), "n": n}

    def random_effects(X):
        k = X.shape[1]
        N = len(y)
        D = indicators(u)
        left = X - project(D, X)
        varying = [j for j in range(k) if np.abs(left[:, j]).max() > 1e-9]
        yl = y - project(D, y)
        bw = solve(left[:, varying], yl)
        s2e = float(((yl - left[:, varying] @ bw) ** 2).sum() / (N - len(ids) - len(varying)))
        T = np.array([(u == v).sum() for v in ids], dtype=float)
        Xm, ym = mean(X), mean(y)
        R = np.sqrt(T)[:, None] * Xm
        bb = solve(R, np.sqrt(T) * ym)
        q = float(((np.sqrt(T) * ym - R @ bb) ** 2).sum())
        rank = np.linalg.matrix_rank(R)
        trace = float(np.trace(np.linalg.pinv(R.T @ R, rcond=1e-11) @ (Xm.T @ np.diag(T ** 2) @ Xm)))
        raw = (q - (len(ids) - rank) * s2e) / (N - trace)
        s2u = max(raw, 0.0)
        theta = {v: 1 - math.sqrt(s2e / (T[i] * s2u + s2e)) for i, v in enumerate(ids)}
        th = np.array([theta[v] for v in u])
        big = np.array([Xm[ids.index(v)] for v in u])
        small = np.array([ym[ids.index(v)] for v in u])
        Xs, ys = X - th[:, None] * big, y - th * small
        b = solve(Xs, ys)
        e = ys - Xs @ b
        inverse = np.linalg.inv(Xs.T @ Xs)
        random_effects.spread = float(e @ e / (N - k))
        V = random_effects.spread * inverse
        g = len(ids)
        C = inverse @ cluster_meat(Xs * e[:, None], u) @ inverse * g / (g - 1) * (N - 1) / (N - k)
        return b, V, C, s2e, s2u
    b, V, C, s2e, s2u = random_effects(X)
    out["random"] = {"b": b.tolist(), "classical": np.sqrt(np.diag(V)).tolist(),
                     "clustered": np.sqrt(np.diag(C)).tolist(), "sigma_unit": math.sqrt(s2u),
                     "sigma_rest": math.sqrt(s2e)}

    # ---- checks, of the pooled question y on x, z
    P = np.column_stack([np.ones_like(y), x, z])
    bo = solve(P, y)
    eo = y - P @ bo
    D = indicators(u)
    S = np.column_stack([x, z])
    left, yl = S - project(D, S), y - project(D, y)
    bw = solve(left, yl)
    ew = yl - left @ bw
    df2 = len(y) - len(ids) - 2
    f = (eo @ eo - ew @ ew) / (len(ids) - 1) / (ew @ ew / df2)
    checks = {"fixed-effects-f": [float(f), float(st.f.sf(f, len(ids) - 1, df2))]}
    sums = D.T @ eo
    T = D.sum(axis=0)
    a = sums @ sums / (eo @ eo) - 1
    lm = len(y) ** 2 / 2 * a * a / (T @ T - len(y))
    checks["breusch-pagan-lm"] = [float(lm), float(st.chi2.sf(lm, 1))]
    br, Vr, _, _, _ = random_effects(P)
    s2r = random_effects.spread
    dd = bw - br[1:]

    def contrast(s2w):
        Vw = s2w * np.linalg.inv(left.T @ left)
        M = Vw - Vr[1:, 1:]
        scale = 1 / np.sqrt(np.diag(Vw))
        values, vectors = np.linalg.eigh(M * np.outer(scale, scale))
        turned = vectors.T @ (scale * dd)
        big = np.abs(values).max()
        h = sum(float(a * a / v) for a, v in zip(turned, values) if v > 1e-10 * big)
        df = sum(1 for v in values if v > 1e-10 * big)
        return [h, float(st.chi2.sf(h, df))]

    # One spread in both covariances, that of the efficient estimator; and each its own.
    checks["hausman"] = contrast(s2r)
    checks["hausman, own spreads"] = contrast(ew @ ew / df2)
    means = np.array([[x[u == v].mean(), z[u == v].mean()] for v in u])
    bm, _, Cm, _, _ = random_effects(np.column_stack([P, means]))
    wald = float(bm[3:] @ np.linalg.solve(Cm[3:, 3:], bm[3:]))
    checks["mundlak"] = [wald, float(st.chi2.sf(wald, 2))]
    d2 = np.column_stack([x[later] - x[earlier], z[later] - z[earlier]])
    e = dy - d2 @ solve(d2, dy)
    where = {(u[i], t[i]): j for j, i in enumerate(later)}
    pp = [(j, where[(u[i], t[i] - 1)]) for j, i in enumerate(later) if (u[i], t[i] - 1) in where]
    now, before = np.array([e[a] for a, _ in pp]), np.array([e[b] for _, b in pp])
    uu = np.array([u[later[a]] for a, _ in pp])
    rho = now @ before / (before @ before)
    v = now - rho * before
    g, n = len(set(uu)), len(pp)
    var = cluster_meat((before * v)[:, None], uu)[0, 0] / (before @ before) ** 2 * g / (g - 1) * (n - 1) / (n - 1)
    f = float((rho + 0.5) ** 2 / var)
    checks["panel-serial"] = [f, float(st.f.sf(f, 1, g - 1))]
    total, count = 0.0, 0
    for i, a in enumerate(ids):
        for b2 in ids[:i]:
            ta, tb = dict(zip(t[u == a], eo[u == a])), dict(zip(t[u == b2], eo[u == b2]))
            both = sorted(set(ta) & set(tb))
            if len(both) >= 3:
                r = float(np.corrcoef([ta[v] for v in both], [tb[v] for v in both])[0, 1])
                total += math.sqrt(len(both)) * r
                count += 1
    cd = total / math.sqrt(count)
    checks["cross-section-dependence"] = [cd, float(2 * st.norm.sf(abs(cd)))]
    out["checks"] = checks
    return out


def survey():
    """Linearised errors of least squares by strata, clusters, weights; a part of the rows too."""
    draw = generator(31)
    d = {name: [] for name in ("y", "x", "w", "h", "c", "part")}
    for i in range(120):
        h = 1 + (i // 40)
        c = i // 6
        x = round(normal(draw), 3)
        y = 1 + 0.5 * x + 0.3 * math.sin(c) + normal(draw)
        for name, value in zip(d, (round(y, 4), x, round(0.5 + 2 * draw(), 3), h, c, int(draw() < 0.6))):
            d[name].append(float(value))
    out = {"data": d}
    for name, rows, population in (("all", np.ones(120, bool), None), ("part", np.array(d["part"]) == 1, None),
                                   ("finite", np.ones(120, bool), 20)):
        y, x, w, h, c = (np.array(d[k]) for k in ("y", "x", "w", "h", "c"))
        X = np.column_stack([np.ones(120), x])
        W = np.where(rows, w, 0.0)
        A = X.T @ (W[:, None] * X)
        b = np.linalg.solve(A, X.T @ (W * y))
        U = X * (W * (y - X @ b))[:, None]
        meat = np.zeros((2, 2))
        clusters = strata = 0
        for s in sorted(set(h)):
            cs = sorted(set(c[h == s]))
            sums = np.array([U[(c == v) & (h == s)].sum(axis=0) for v in cs])
            d0 = sums - sums.mean(axis=0)
            share = len(cs) / population if population else 0.0
            meat += (1 - share) * len(cs) / (len(cs) - 1) * d0.T @ d0
            clusters += len(cs)
            strata += 1
        inverse = np.linalg.inv(A)
        out[name] = {"b": b.tolist(), "se": np.sqrt(np.diag(inverse @ meat @ inverse)).tolist(),
                     "df": clusters - strata}
    return out


def main():
    out = {"iv": iv(), "panel": {kind: panel(kind) for kind in ("clean", "fails", "awkward")}, "survey": survey()}
    path = pathlib.Path(__file__).with_name("causes_reference.json")
    path.write_text(json.dumps(out) + "\n")


if __name__ == "__main__":
    main()
