#!/usr/bin/env python3
"""Reference values for correlations and tests of a single variable: relation_reference.json.

Correlations and partial correlations in 50 digits with mpmath from exact inputs; p from the
incomplete beta function in mpmath. Kendall's variance is summed over all pairs and ties by its
definition. Tests of normality from scipy where it has them, else by the formula of the paper.
"""
import itertools
import json
import math
import pathlib

import mpmath as mp
import numpy as np
import scipy.stats as st

mp.mp.dps = 50


def data():
    """Five short columns with ties and holes; None is missing."""
    x, out = 12345, []
    def draw():
        nonlocal x
        x = (1103515245 * x + 12345) % 2**31
        return x / 2**31
    for _ in range(40):
        a = round(10 * draw(), 2)
        b = round(0.6 * a + 5 * draw(), 2)
        c = math.floor(6 * draw()) + 1
        d = math.floor(0.5 * a + 3 * draw())
        e = round(20 - b + 4 * draw(), 1)
        row = [a, b, c, d, e]
        for j in range(5):
            if draw() < 0.06:
                row[j] = None
        out.append(row)
    return [[row[j] for row in out] for j in range(5)]


def complete(columns):
    rows = [r for r in zip(*columns) if all(v is not None for v in r)]
    return [list(c) for c in zip(*rows)]


def ranks(v):
    s = sorted(v)
    return [mp.mpf(s.index(a) + 1 + s.index(a) + s.count(a)) / 2 for a in v]


def corr(u, v):
    u = [mp.mpf(repr(a)) if isinstance(a, float) else mp.mpf(a) for a in u]
    v = [mp.mpf(repr(a)) if isinstance(a, float) else mp.mpf(a) for a in v]
    mu, mv = sum(u) / len(u), sum(v) / len(v)
    suv = sum((a - mu) * (b - mv) for a, b in zip(u, v))
    return suv / mp.sqrt(sum((a - mu) ** 2 for a in u) * sum((b - mv) ** 2 for b in v))


def t_two_sided(t, df):
    return mp.betainc(mp.mpf(df) / 2, mp.mpf(1) / 2, 0, df / (df + t * t), regularized=True)


def partial(columns, transform):
    """First two with the others held: residual formula by the inverse of the matrix."""
    cols = [transform(c) for c in complete(columns)]
    k = len(cols)
    m = mp.matrix(k, k)
    for i in range(k):
        for j in range(k):
            m[i, j] = mp.mpf(1) if i == j else corr(cols[i], cols[j])
    inv = m ** -1
    r = -inv[0, 1] / mp.sqrt(inv[0, 0] * inv[1, 1])
    # Semi-partial: the first with the second's rest.
    rest = mp.sqrt(1 / inv[1, 1])
    held = m[2:k, 2:k]
    solved = held ** -1 * m[2:k, 1]
    semi = (m[0, 1] - sum(m[0, 2 + i] * solved[i] for i in range(k - 2))) / mp.sqrt(
        1 - sum(m[1, 2 + i] * solved[i] for i in range(k - 2)))
    n = len(cols[0])
    df = n - k
    t = r * mp.sqrt(df / (1 - r * r))
    return {"r": str(r), "n": n, "p": str(t_two_sided(t, df)), "semi": str(semi)}


def plain(u, v, transform):
    a, b = [transform(c) for c in complete([u, v])]
    r, n = corr(a, b), len(a)
    t = r * mp.sqrt((n - 2) / (1 - r * r))
    z, se = mp.atanh(r), 1 / mp.sqrt(n - 3)
    q = mp.sqrt(2) * mp.erfinv(mp.mpf("0.95"))
    return {"r": str(r), "n": n, "p": str(t_two_sided(t, n - 2)),
            "low": str(mp.tanh(z - q * se)), "high": str(mp.tanh(z + q * se))}


def kendall(u, v):
    a, b = complete([u, v])
    n = len(a)
    s = sum((1 if (x[0] - y[0]) * (x[1] - y[1]) > 0 else -1 if (x[0] - y[0]) * (x[1] - y[1]) < 0 else 0)
            for x, y in itertools.combinations(list(zip(a, b)), 2))
    ties = lambda w: [w.count(t) for t in set(w)]
    ta, tb = ties(a), ties(b)
    n0 = mp.mpf(n * (n - 1)) / 2
    n1 = mp.mpf(sum(t * (t - 1) for t in ta)) / 2
    n2 = mp.mpf(sum(t * (t - 1) for t in tb)) / 2
    tau = s / mp.sqrt((n0 - n1) * (n0 - n2))
    v0 = n * (n - 1) * (2 * n + 5)
    var = mp.mpf(v0 - sum(t * (t - 1) * (2 * t + 5) for t in ta) - sum(t * (t - 1) * (2 * t + 5) for t in tb)) / 18
    var += mp.mpf(sum(t * (t - 1) for t in ta) * sum(t * (t - 1) for t in tb)) / (2 * n * (n - 1))
    var += mp.mpf(sum(t * (t - 1) * (t - 2) for t in ta) * sum(t * (t - 1) * (t - 2) for t in tb)) / (
        9 * n * (n - 1) * (n - 2))
    z = s / mp.sqrt(var)
    return {"tau": str(tau), "n": n, "z": str(z), "p": str(mp.erfc(abs(z) / mp.sqrt(2)))}


def anderson_darling(v):
    x = sorted(mp.mpf(repr(a)) for a in v)
    n = len(x)
    m = sum(x) / n
    sd = mp.sqrt(sum((a - m) ** 2 for a in x) / (n - 1))
    cdf = [mp.ncdf((a - m) / sd) for a in x]
    a2 = -n - sum((2 * i + 1) * (mp.log(cdf[i]) + mp.log(1 - cdf[n - 1 - i])) for i in range(n)) / n
    star = a2 * (1 + mp.mpf("0.75") / n + mp.mpf("2.25") / n ** 2)
    # D'Agostino & Stephens (1986), table 4.9.
    if star >= mp.mpf("0.6"):
        p = mp.exp(mp.mpf("1.2937") - mp.mpf("5.709") * star + mp.mpf("0.0186") * star ** 2)
    elif star > mp.mpf("0.34"):
        p = mp.exp(mp.mpf("0.9177") - mp.mpf("4.279") * star - mp.mpf("1.38") * star ** 2)
    elif star > mp.mpf("0.2"):
        p = 1 - mp.exp(mp.mpf("-8.318") + mp.mpf("42.796") * star - mp.mpf("59.938") * star ** 2)
    else:
        p = 1 - mp.exp(mp.mpf("-13.436") + mp.mpf("101.14") * star - mp.mpf("223.73") * star ** 2)
    return {"a2": str(a2), "adjusted": str(star), "p": str(p)}


def lilliefors(v):
    x = sorted(mp.mpf(repr(a)) for a in v)
    n = len(x)
    m = sum(x) / n
    sd = mp.sqrt(sum((a - m) ** 2 for a in x) / (n - 1))
    cdf = [mp.ncdf((a - m) / sd) for a in x]
    d = max(max(mp.mpf(i + 1) / n - cdf[i], cdf[i] - mp.mpf(i) / n) for i in range(n))
    # Dallal & Wilkinson (1986) for p up to .1; above it Molin & Abdi (1998).
    kd, nd = (d, n) if n <= 100 else (d * (mp.mpf(n) / 100) ** mp.mpf("0.49"), 100)
    p = mp.exp(mp.mpf("-7.01256") * kd ** 2 * (nd + mp.mpf("2.78019"))
               + mp.mpf("2.99587") * kd * mp.sqrt(nd + mp.mpf("2.78019")) - mp.mpf("0.122119")
               + mp.mpf("0.974598") / mp.sqrt(nd) + mp.mpf("1.67997") / nd)
    if p > mp.mpf("0.1"):
        b0, b1, b2 = mp.mpf("0.37872256037043"), mp.mpf("1.30748185078790"), mp.mpf("0.08861783849346")
        a = (-(b1 + n) + mp.sqrt((b1 + n) ** 2 - 4 * b2 * (b0 - d ** -2))) / (2 * b2)
        c = ["-.37782822932809", "1.67819837908004", "-3.02959249450445", "2.80015798142101",
             "-1.39874347510845", "0.40466213484419", "-0.06353440854207", "0.00287462087623",
             "0.00069650013110", "-0.00011872227037", "0.00000575586834"]
        p = min(max(sum(mp.mpf(w) * a ** i for i, w in enumerate(c)), mp.mpf("0.1")), mp.mpf(1))
    return {"d": str(d), "p": str(p)}


def sheather_jones(v):
    """Solves the equation of Sheather & Jones (1991) over all pairs, and the density at 5 places."""
    x = np.array(v)
    n = len(x)
    q = np.quantile(x, [0.25, 0.75])
    scale = min(x.std(ddof=1), (q[1] - q[0]) / 1.349)
    d = x[:, None] - x[None, :]
    phi = lambda z: np.exp(-z * z / 2) / math.sqrt(2 * math.pi)
    s4 = lambda g: ((lambda z: ((z**4 - 6 * z**2 + 3) * phi(z)).sum())(d / g)) / (n * (n - 1) * g**5)
    t6 = lambda g: -((lambda z: ((z**6 - 15 * z**4 + 45 * z**2 - 15) * phi(z)).sum())(d / g)) / (n * (n - 1) * g**7)
    a = 0.920 * 1.349 * scale * n ** (-1 / 7)
    b = 0.912 * 1.349 * scale * n ** (-1 / 9)
    ratio = 1.357 * (s4(a) / t6(b)) ** (1 / 7)
    f = lambda h: (1 / (2 * math.sqrt(math.pi) * n * s4(ratio * h ** (5 / 7)))) ** 0.2 - h
    import scipy.optimize
    h = scipy.optimize.brentq(f, scale / 50, scale * 3, xtol=1e-14)
    at = np.linspace(x.min() - 3 * h, x.max() + 3 * h, 201)
    dens = [phi((u - x) / h).sum() / (n * h) for u in at]
    return {"bandwidth": h, "at": list(at[::50]), "density": dens[::50]}


def main():
    columns = data()
    a, b, c, d, e = columns
    same = lambda v: v
    out = {
        "columns": columns,
        "pearson": {"ab": plain(a, b, same), "be": plain(b, e, same)},
        "spearman": {"cd": {k: plain(c, d, ranks)[k] for k in ("r", "n", "p")},
                     "ab": {k: plain(a, b, ranks)[k] for k in ("r", "n", "p")}},
        "kendall": {"cd": kendall(c, d), "ab": kendall(a, b)},
        "partial": {"ad_b": partial([a, d, b], same), "ad_be": partial([a, d, b, e], same)},
        "partial_spearman": {"ad_b": partial([a, d, b], ranks)},
    }
    clean = [v for v in b if v is not None]
    skewed = [round(v * v * v, 3) for v in clean]
    out["samples"] = []
    for v in (clean, skewed):
        sw = st.shapiro(v)
        k2 = st.normaltest(v)
        skew = st.skewtest(v)
        kurt = st.kurtosistest(v)
        out["samples"].append({
            "values": v, "anderson_darling": anderson_darling(v), "lilliefors": lilliefors(v),
            "dagostino": {"k2": float(k2.statistic), "p": float(k2.pvalue),
                          "z_skewness": float(skew.statistic), "z_kurtosis": float(kurt.statistic)},
            "shapiro": {"w": float(sw.statistic), "p": float(sw.pvalue)}})
    out["density"] = [sheather_jones(v) for v in (clean, skewed)]
    groups = {1: [], 2: [], 3: []}
    for u, g in zip(b, c):
        if u is not None and g is not None:
            groups[(g + 1) // 2].append(u)
    g1, g2, g3 = groups[1], groups[2], groups[3]
    welch = st.ttest_ind(g1, g2, equal_var=False)
    anova = st.f_oneway(g1, g2, g3)
    levene = st.levene(g1, g2, g3, center="median")
    kw = st.kruskal(g1, g2, g3)
    mw = st.mannwhitneyu(g1, g2, method="asymptotic", use_continuity=False)
    table = np.array([[sum(1 for u, w in zip(c, d) if u is not None and w is not None and (u + 1) // 2 == i
                           and min(w // 3, 1) == j) for j in range(2)] for i in (1, 2, 3)])
    chi = st.chi2_contingency(table, correction=False)
    out["groups"] = {
        "values": [g1, g2, g3],
        "welch": {"t": float(welch.statistic), "p": float(welch.pvalue)},
        "anova": {"f": float(anova.statistic), "p": float(anova.pvalue)},
        "levene": {"f": float(levene.statistic), "p": float(levene.pvalue)},
        "kruskal": {"h": float(kw.statistic), "p": float(kw.pvalue)},
        "ranksum": {"u": float(mw.statistic), "p": float(mw.pvalue)},
        "table": table.tolist(),
        "chi2": {"value": float(chi.statistic), "df": int(chi.dof), "p": float(chi.pvalue),
                 "v": float(math.sqrt(chi.statistic / table.sum() / 1))},
    }
    path = pathlib.Path(__file__).parent / "relation_reference.json"
    path.write_text(json.dumps(out, indent=1) + "\n")


main()
