"""Writes reference.json: least squares, its covariances and its checks at 50 digits (mpmath);
Shapiro-Wilk by the formulas of Royston (1995), whose coefficients carry six digits. Run with: python3 make_reference.py
"""
import json
import mpmath as mp

mp.mp.dps = 50
n = 40
# Small whole numbers from a written-down rule: the same everywhere, no generator needed.
a = [(7 * i * i + 3 * i) % 23 for i in range(n)]
b = [(5 * i * i * i + 11) % 17 for i in range(n)]
g = [i % 3 for i in range(n)]
c1 = [i // 4 for i in range(n)]
c2 = [(i * 7) % 8 for i in range(n)]
w = [1 + (i * 5) % 4 for i in range(n)]
y = [3 + 2 * a[i] - b[i] + 4 * (g[i] == 1) + ((i * 37) % 19 - 9) * (1 + a[i] / 8.0) for i in range(n)]
k = 5

def design(weights=None):
    X = mp.matrix(n, k)
    Y = mp.matrix(n, 1)
    for i in range(n):
        r = mp.sqrt(weights[i]) if weights else mp.mpf(1)
        for j, v in enumerate([1, a[i], b[i], int(g[i] == 1), int(g[i] == 2)]):
            X[i, j] = r * v
        Y[i] = r * mp.mpf(y[i])
    return X, Y

def ols(X, Y):
    A = (X.T * X) ** -1
    beta = A * (X.T * Y)
    return A, beta, Y - X * beta

def rss(X, Y):
    e = ols(X, Y)[2]
    return sum(v * v for v in e)

def sandwich(X, A, f):
    M = mp.matrix(k, k)
    for i in range(n):
        row = X[i, :]
        M += f[i] * (row.T * row)
    return A * M * A

def clustered(X, A, e, groups, nn):
    ids = sorted(set(groups))
    M = mp.matrix(k, k)
    for c in ids:
        s = mp.matrix(k, 1)
        for i in range(n):
            if groups[i] == c:
                s += e[i] * X[i, :].T
        M += s * s.T
    G = mp.mpf(len(ids))
    return A * M * A * (G / (G - 1)) * (mp.mpf(nn - 1) / (nn - k))

out = {"data": {"a": a, "b": b, "g": g, "c1": c1, "c2": c2, "w": w, "y": y}}
txt = lambda v: mp.nstr(v, 20)
ses = lambda V: [txt(mp.sqrt(V[j, j])) for j in range(k)]
X, Y = design()
A, beta, e = ols(X, Y)
S = sum(v * v for v in e)
s2 = S / (n - k)
h = [(X[i, :] * A * X[i, :].T)[0] for i in range(n)]
out["beta"] = [txt(v) for v in beta]
out["classical"] = ses(s2 * A)
out["HC0"] = ses(sandwich(X, A, [v * v for v in e]))
out["HC1"] = ses(sandwich(X, A, [v * v * n / mp.mpf(n - k) for v in e]))
out["HC2"] = ses(sandwich(X, A, [e[i] ** 2 / (1 - h[i]) for i in range(n)]))
out["HC3"] = ses(sandwich(X, A, [e[i] ** 2 / (1 - h[i]) ** 2 for i in range(n)]))
out["HC4"] = ses(sandwich(X, A, [e[i] ** 2 / (1 - h[i]) ** min(mp.mpf(4), n * h[i] / k) for i in range(n)]))
out["clustered"] = ses(clustered(X, A, e, c1, n))
both = [c1[i] * 100 + c2[i] for i in range(n)]
V2 = clustered(X, A, e, c1, n) + clustered(X, A, e, c2, n) - clustered(X, A, e, both, n)
values, vectors = mp.eigsy((V2 + V2.T) / 2)
out["two_way_repaired"] = bool(min(values) < 0)
V2 = vectors * mp.diag([max(v, mp.mpf(0)) for v in values]) * vectors.T
out["two_way"] = ses(V2)
W, WY = design(w)
WA, wbeta, we = ols(W, WY)
out["precision_beta"] = [txt(v) for v in wbeta]
out["precision_classical"] = ses(sum(v * v for v in we) / (n - k) * WA)
out["precision_HC1"] = ses(sandwich(W, WA, [v * v * n / mp.mpf(n - k) for v in we]))
N = sum(w)
out["frequency_classical"] = ses(sum(v * v for v in we) / (N - k) * WA)
out["frequency_HC3"] = ses(sandwich(W, WA, [we[i] ** 2 / w[i] / (1 - (W[i, :] * WA * W[i, :].T)[0] / w[i]) ** 2 for i in range(n)]))

checks = {}
def chi2(x, df): return mp.gammainc(mp.mpf(df) / 2, x / 2, mp.inf, regularized=True)
def ftail(f, d1, d2): return mp.betainc(mp.mpf(d2) / 2, mp.mpf(d1) / 2, 0, d2 / (d2 + d1 * f), regularized=True)
def r2(cols, target):
    Z = mp.matrix(n, len(cols) + 1)
    for i in range(n):
        Z[i, 0] = 1
        for j, col in enumerate(cols):
            Z[i, j + 1] = col[i]
    T = mp.matrix(target)
    m = sum(target) / n
    return 1 - rss(Z, T) / sum((v - m) ** 2 for v in target)
xs = [[X[i, j] for i in range(n)] for j in range(1, k)]
e2 = [v * v / (S / n) for v in e]
lm = n * r2(xs, e2)
checks["breusch-pagan"] = [txt(lm), txt(chi2(lm, k - 1))]
m2 = sum(e2) / n
original = r2(xs, e2) * sum((v - m2) ** 2 for v in e2) / 2
checks["breusch-pagan original"] = [txt(original), txt(chi2(original, k - 1))]
squares = xs + [[v * v for v in xs[0]], [v * v for v in xs[1]]]
lm = n * r2(squares, e2)
checks["white without products"] = [txt(lm), txt(chi2(lm, len(squares)))]
fit = X * beta
big = mp.matrix(n, k + 2)
for i in range(n):
    for j in range(k):
        big[i, j] = X[i, j]
    big[i, k] = fit[i] ** 2
    big[i, k + 1] = fit[i] ** 3
f = (S - rss(big, Y)) / 2 / (rss(big, Y) / (n - k - 2))
checks["reset"] = [txt(f), txt(ftail(f, 2, n - k - 2))]
mean = sum(e) / n
mom = lambda p: sum((v - mean) ** p for v in e) / n
skew, kurt = mom(3) / mom(2) ** mp.mpf("1.5"), mom(4) / mom(2) ** 2
jb = n * (skew ** 2 + (kurt - 3) ** 2 / 4) / 6
checks["jarque-bera"] = [txt(jb), txt(chi2(jb, 2))]
quantile = lambda q: mp.sqrt(2) * mp.erfinv(2 * q - 1)
m = [quantile((i + 1 - mp.mpf(3) / 8) / (n + mp.mpf(1) / 4)) for i in range(n)]
mm = sum(v * v for v in m)
u = 1 / mp.sqrt(n)
poly = lambda cs, x: sum(mp.mpf(c) * x ** i for i, c in enumerate(cs))
an = m[-1] / mp.sqrt(mm) + poly(["0", "0.221157", "-0.147981", "-2.071190", "4.434685", "-2.706056"], u)
an1 = m[-2] / mp.sqrt(mm) + poly(["0", "0.042981", "-0.293762", "-1.752461", "5.682633", "-3.582633"], u)
phi = (mm - 2 * m[-1] ** 2 - 2 * m[-2] ** 2) / (1 - 2 * an ** 2 - 2 * an1 ** 2)
weights = [-an, -an1] + [v / mp.sqrt(phi) for v in m[2:-2]] + [an1, an]
ordered = sorted(e)
W_ = sum(wt * v for wt, v in zip(weights, ordered)) ** 2 / sum((v - mean) ** 2 for v in e)
ln_n = mp.log(n)
mu_ = poly(["-1.5861", "-0.31082", "-0.083751", "0.0038915"], ln_n)
sigma_ = mp.exp(poly(["-0.4803", "-0.082676", "0.0030302"], ln_n))
checks["shapiro-wilk"] = [txt(W_), txt(mp.erfc((mp.log(1 - W_) - mu_) / sigma_ / mp.sqrt(2)) / 2)]
cook = [e[i] ** 2 * h[i] / (k * s2 * (1 - h[i]) ** 2) for i in range(n)]
checks["cooks-distance"] = [txt(max(cook))]
t = [e[i] / mp.sqrt((S - e[i] ** 2 / (1 - h[i])) / (n - k - 1) * (1 - h[i])) for i in range(n)]
checks["outliers"] = [txt(max(t, key=abs))]
checks["leverage"] = [txt(max(h))]
centred = lambda col: sum((v - sum(col) / n) ** 2 for v in col)
checks["vif a"] = [txt(A[1, 1] * centred(xs[0]))]
G = mp.matrix(2, 2)
for r in range(2):
    for c in range(2):
        u, v = xs[2 + r], xs[2 + c]
        G[r, c] = sum((u[i] - sum(u) / n) * (v[i] - sum(v) / n) for i in range(n))
checks["gvif g"] = [txt(mp.det(G) * mp.det(A[3:5, 3:5]))]
dw = sum((e[i] - e[i - 1]) ** 2 for i in range(1, n)) / S
D = mp.matrix(n, n)
for i in range(n):
    D[i, i] = 1 if i in (0, n - 1) else 2
    if i > 0:
        D[i, i - 1] = D[i - 1, i] = -1
M = mp.eye(n) - X * A * X.T
mp.mp.dps = 30
lam = sorted(mp.eigsy(M * D * M, eigvals_only=True))[k:]
mu = [v - dw for v in lam]
def integrand(u):
    theta = sum(mp.atan(v * u) for v in mu) / 2
    rho = mp.exp(sum(mp.log(1 + (v * u) ** 2) for v in mu) / 4)
    return mp.sin(theta) / (u * rho)
p = mp.mpf(1) / 2 - mp.quad(integrand, [0, 0.2, 0.5, 1, 2, 4, 8, 16]) / mp.pi
checks["durbin-watson"] = [txt(dw), mp.nstr(p, 15)]
mp.mp.dps = 50
lag = [mp.mpf(0)] + [e[i] for i in range(n - 1)]
lag2 = [mp.mpf(0), mp.mpf(0)] + [e[i] for i in range(n - 2)]
big = mp.matrix(n, k + 2)
for i in range(n):
    for j in range(k):
        big[i, j] = X[i, j]
    big[i, k], big[i, k + 1] = lag[i], lag2[i]
lm = n * (1 - rss(big, e) / S)
checks["breusch-godfrey 2"] = [txt(lm), txt(chi2(lm, 2))]
out["checks"] = checks
json.dump(out, open("reference.json", "w"), indent=1)
