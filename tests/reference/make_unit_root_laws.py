#!/usr/bin/env python3
"""Laws of unit-root statistics under the null, by simulation, as response surfaces.

Writes core/numerics/unit_root_tables.cpp: for each law and each probability of a grid the
coefficients of q(T) = b0 + b1/T + b2/T² + b3/T³ (MacKinnon 1996, Journal of Applied Econometrics
11, has the idea), T the rows of the regression; and mean and variance of the statistic by rows and
lags for averages over units (Im, Pesaran & Shin 2003, Journal of Econometrics 115).

  python3 tests/reference/make_unit_root_laws.py [SHARE OF THE DRAWS]
  python3 tests/reference/make_unit_root_laws.py check   how often p falls to .01, .05, .10 or below
                                                         under the null: 200,000 other draws each

Walks begin at the first error (y₀ = 0). Residual laws are those of the regression of one walk on
N − 1 others and a constant (and a trend); the statistic is that of their residuals without any.
"""
import re
import sys

import numpy as np
from scipy.stats import norm

CHECK = sys.argv[1:] == ["check"]
SHARE = float(sys.argv[1]) if len(sys.argv) > 1 and not CHECK else 1.0
GRID = np.array([.0001, .0005, .001, .0025, .005, .0075, .01, .015, .02, .025, .03, .04, .05, .06,
                 .075, .09, .1, .11, .125, .15, .175, .2, .25, .3, .35, .4, .45, .5, .55, .6, .65,
                 .7, .75, .8, .85, .9, .95, .975, .99, .995, .999])
ROWS = [12, 15, 20, 25, 30, 40, 50, 75, 100, 150, 200, 300, 500, 1000]
ROWS_RESIDUAL = [20, 25, 30, 40, 50, 75, 100, 150, 200, 300, 500, 1000]
MOST = 6  # Trending columns with the outcome.


def basis(rows, with_):
    """Orthonormal columns of what is taken out: none, constant, trend."""
    if with_ == "none":
        return np.zeros((rows, 0))
    t = np.arange(rows, dtype=float)
    columns = [np.ones(rows)] + ([t] if with_ == "trend" else [])
    return np.linalg.qr(np.column_stack(columns))[0]


def without(values, q):
    return values - (values @ q) @ q.T if q.shape[1] else values


def statistic(walk, with_):
    """t of the level before, a row a draw."""
    change = np.diff(walk, axis=1)
    rows = change.shape[1]
    q = basis(rows, with_)
    x = without(walk[:, :-1], q)
    y = without(change, q)
    xx = np.einsum("ij,ij->i", x, x)
    xy = np.einsum("ij,ij->i", x, y)
    rss = np.einsum("ij,ij->i", y, y) - xy * xy / xx
    return xy / np.sqrt(xx * rss / (rows - q.shape[1] - 1))


def residual_statistics(walks, with_):
    """For N = 2 … MOST: t of the residuals of the first walk on the next N − 1."""
    draws, count, n = walks.shape
    q = basis(n, with_)
    flat = without(walks.reshape(-1, n), q).reshape(draws, count, n)
    cross = np.einsum("dij,dkj->dik", flat, flat)
    out = {}
    for columns in range(2, count + 1):
        b = np.linalg.solve(cross[:, 1:columns, 1:columns], cross[:, 1:columns, :1])
        e = flat[:, 0] - np.einsum("dk,dkj->dj", b[:, :, 0], flat[:, 1:columns])
        out[columns] = statistic(e, "none")
    return out


def surface(quantiles, rows):
    t = 1.0 / np.array(rows)
    X = np.column_stack([np.ones_like(t), t, t**2, t**3])
    b, *_ = np.linalg.lstsq(X, quantiles, rcond=None)
    return b, np.abs(quantiles - X @ b).max()


def main():
    rng = np.random.default_rng(20260101)
    laws = {}
    worst = 0.0
    for with_ in ["none", "constant", "trend"]:
        q = []
        for rows in ROWS:
            total = int(1_000_000 * SHARE)
            chunk = max(1, 4_000_000 // rows)
            parts = []
            while total > 0:
                m = min(chunk, total)
                parts.append(statistic(np.cumsum(rng.standard_normal((m, rows + 1)), axis=1), with_))
                total -= m
            q.append(np.quantile(np.concatenate(parts), GRID))
        laws[(1, with_)], miss = surface(np.array(q), ROWS)
        worst = max(worst, miss)
        print(with_, miss, flush=True)
    for with_ in ["constant", "trend"]:
        q = {c: [] for c in range(2, MOST + 1)}
        for rows in ROWS_RESIDUAL:
            total = int(300_000 * SHARE)
            chunk = max(1, 600_000 // rows)
            parts = {c: [] for c in q}
            while total > 0:
                m = min(chunk, total)
                found = residual_statistics(
                    np.cumsum(rng.standard_normal((m, MOST, rows + 1)), axis=2), with_)
                for c in q:
                    parts[c].append(found[c])
                total -= m
            for c in q:
                q[c].append(np.quantile(np.concatenate(parts[c]), GRID))
        for c in q:
            laws[(c, with_)], miss = surface(np.array(q[c]), ROWS_RESIDUAL)
            print(c, with_, miss, flush=True)
    moments = averages(rng)
    write(laws, moments)


MOMENT_ROWS = [8, 10, 12, 15, 20, 25, 30, 40, 50, 70, 100, 200, 500]
MOMENT_LAGS = 8


def averages(rng):
    """Mean and variance of the statistic with lags; nan where too few rows are left."""
    out = {}
    for with_ in ["none", "constant", "trend"]:
        for lags in range(MOMENT_LAGS + 1):
            for rows in MOMENT_ROWS:
                d = {"none": 0, "constant": 1, "trend": 2}[with_]
                if rows - lags - d - 1 < 6:
                    out[(with_, lags, rows)] = (np.nan, np.nan)
                    continue
                total = int(200_000 * SHARE)
                chunk = max(1, 2_000_000 // (rows * (lags + 1)))
                s1 = s2 = 0.0
                n = 0
                while total > 0:
                    m = min(chunk, total)
                    t = lagged(np.cumsum(rng.standard_normal((m, rows + lags + 1)), axis=1), with_, lags)
                    s1 += t.sum()
                    s2 += (t * t).sum()
                    n += m
                    total -= m
                mean = s1 / n
                out[(with_, lags, rows)] = (mean, s2 / n - mean * mean)
        print("averages", with_, flush=True)
    return out


def lagged(walk, with_, lags):
    change = np.diff(walk, axis=1)
    rows = change.shape[1] - lags
    q = basis(rows, with_)
    y = without(change[:, lags:], q)
    columns = [without(walk[:, lags:-1], q)]
    columns += [without(change[:, lags - j:-j], q) for j in range(1, lags + 1)]
    X = np.stack(columns, axis=1)
    A = np.einsum("dij,dkj->dik", X, X)
    c = np.einsum("dij,dj->di", X, y)
    inverse = np.linalg.inv(A)
    b = np.einsum("dik,dk->di", inverse, c)
    rss = np.einsum("dj,dj->d", y, y) - np.einsum("di,di->d", b, c)
    return b[:, 0] / np.sqrt(inverse[:, 0, 0] * rss / (rows - len(columns) - q.shape[1]))


def numbers(values, digits):
    return ", ".join("std::numeric_limits<double>::quiet_NaN()" if np.isnan(v)
                     else f"{v:.{digits}g}" if v else "0.0" for v in values)


def write(laws, moments):
    out = ["// Written by tests/reference/make_unit_root_laws.py; what it simulates stands there.",
           '#include "core/numerics/unit_root_tables.h"', "", "#include <limits>", "",
           "namespace rapporto {", "", "const UnitRootTables& unitRootTables() {",
           "    static const UnitRootTables kTables = {"]
    out.append("        // Normal quantiles of the probabilities.")
    out.append("        {" + numbers(norm.ppf(GRID), 10) + "},")
    out.append("        // By columns and what is taken out: a row a probability.")
    out.append("        {")
    for (columns, with_), b in laws.items():
        kind = {"none": "None", "constant": "Constant", "trend": "Trend"}[with_]
        out.append(f"            {{{columns}, Deterministic::{kind}, {{")
        for k in range(len(GRID)):
            out.append("                {" + numbers(b[:, k], 7) + "},")
        out.append("            }},")
    out.append("        },")
    out.append("        // Rows of the averages, then mean and variance by what is taken out and lags.")
    out.append("        {" + ", ".join(str(r) for r in MOMENT_ROWS) + "},")
    out.append("        {")
    for with_ in ["none", "constant", "trend"]:
        kind = {"none": "None", "constant": "Constant", "trend": "Trend"}[with_]
        for lags in range(MOMENT_LAGS + 1):
            pairs = [moments[(with_, lags, r)] for r in MOMENT_ROWS]
            out.append(f"            {{Deterministic::{kind}, {lags},")
            out.append("             {" + numbers([p[0] for p in pairs], 5) + "},")
            out.append("             {" + numbers([p[1] for p in pairs], 5) + "}},")
    out.append("        },")
    out += ["    };", "    return kTables;", "}", "", "}  // namespace rapporto", ""]
    with open("core/numerics/unit_root_tables.cpp", "w") as f:
        f.write("\n".join(out))


def written():
    """The surfaces as the program has them."""
    text = open("core/numerics/unit_root_tables.cpp").read()
    laws = {}
    number = r"-?[0-9.]+(?:e[-+]?[0-9]+)?"
    row = r"\{\s*" + r"\s*,\s*".join([number] * 4) + r"\s*\}"
    for columns, kind, body in re.findall(
            r"\{\s*(\d+),\s*Deterministic::(\w+),\s*\{((?:\s*" + row + r"\s*,?)+)\s*\}", text):
        rows = [[float(x) for x in re.findall(number, one)] for one in re.findall(row, body)]
        laws[(int(columns), kind.lower())] = np.array(rows)
    return laws


def check():
    rng = np.random.default_rng(987654321)
    laws = written()
    at = [int(np.argmin(np.abs(GRID - p))) for p in (.01, .05, .10)]
    print("| law | rows | .01 | .05 | .10 |")
    print("|---|---|---|---|---|")
    for rows in [25, 50, 100, 250, 500]:
        found = {key: [] for key in laws}
        left = 200_000
        while left > 0:
            m = min(left, max(1, 600_000 // rows))
            walks = np.cumsum(rng.standard_normal((m, MOST, rows + 1)), axis=2)
            for with_ in ["none", "constant", "trend"]:
                found[(1, with_)].append(statistic(walks[:, 0], with_))
            for with_ in ["constant", "trend"]:
                for columns, t in residual_statistics(walks, with_).items():
                    found[(columns, with_)].append(t)
            left -= m
        for (columns, with_), parts in found.items():
            t = np.concatenate(parts)
            u = 1.0 / rows
            q = laws[(columns, with_)] @ np.array([1.0, u, u**2, u**3])
            shares = " | ".join(f"{(t <= q[k]).mean():.4f}" for k in at)
            print(f"| {columns}, {with_} | {rows} | {shares} |", flush=True)


if __name__ == "__main__":
    check() if CHECK else main()
