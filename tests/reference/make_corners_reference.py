#!/usr/bin/env python3
"""Reference values of corners that people meet, from definitions: explicit indicators, likelihoods
and moments written out. Data: tests/data/corners. Writes tests/reference/corners_reference.json."""
import csv
import json
import pathlib

import numpy as np
from scipy import optimize, stats

HERE = pathlib.Path(__file__).resolve().parent
DATA = HERE.parent / "data" / "corners"


def table(folder):
    with open(DATA / folder / "data.csv", newline="") as file:
        rows = list(csv.DictReader(file))
    return {name: np.array([float(r[name]) if r[name].replace(".", "").replace("-", "").replace("e", "").isdigit()
                            else r[name] for r in rows], dtype=object) for name in rows[0]}


def numbers(columns, name):
    return columns[name].astype(float)


def dummies(values):
    levels = sorted(set(values))
    return np.column_stack([(values == level).astype(float) for level in levels])


def robust(X, y, kind, rank):
    """White's errors with leverages of the whole design (MacKinnon & White 1985; Cribari-Neto 2004)."""
    inverse = np.linalg.pinv(X.T @ X)
    b = inverse @ X.T @ y
    e = y - X @ b
    h = np.einsum("ij,jk,ik->i", X, inverse, X)
    n = len(y)
    power = {"HC2": np.ones(n), "HC3": 2 * np.ones(n), "HC4": np.minimum(4.0, n * h / rank)}[kind]
    u = e / (1 - h) ** (power / 2)
    meat = X.T @ (u[:, None] ** 2 * X)
    return b, np.sqrt(np.diag(inverse @ meat @ inverse))


def leverage_types():
    d = table("hc3-two-groupings")
    y, x, t = numbers(d, "y"), numbers(d, "x"), numbers(d, "t")
    unit = dummies(d["u"])
    out = {}
    for name, held in {"two": np.hstack([unit, dummies(d["t"])]),
                       "slopes": np.hstack([unit, unit * t[:, None]]),
                       "one": unit}.items():
        X = np.column_stack([x, held])
        rank = np.linalg.matrix_rank(X)
        out[name] = {kind: robust(X, y, kind, rank)[1][0] for kind in ("HC2", "HC3", "HC4")}
    return out


def several_groups():
    d = table("multinomial-together")
    levels = sorted(set(d["way"]))
    X = np.column_stack([np.ones(len(d["x"])), numbers(d, "x"), numbers(d, "z")])
    k = X.shape[1]
    Y = np.column_stack([(d["way"] == level).astype(float) for level in levels])

    def shares(theta):
        eta = np.column_stack([np.zeros(len(X))] + [X @ theta[k * j:k * (j + 1)] for j in range(len(levels) - 1)])
        p = np.exp(eta - eta.max(axis=1, keepdims=True))
        return p / p.sum(axis=1, keepdims=True)

    theta = np.zeros(k * (len(levels) - 1))
    for _ in range(60):
        p = shares(theta)
        g = np.concatenate([X.T @ (Y[:, j + 1] - p[:, j + 1]) for j in range(len(levels) - 1)])
        H = np.block([[X.T @ ((p[:, a + 1] * ((a == b) - p[:, b + 1]))[:, None] * X)
                       for b in range(len(levels) - 1)] for a in range(len(levels) - 1)])
        theta = theta + np.linalg.solve(H, g)
    V = np.linalg.inv(H)

    def wald(which):
        b = theta[which]
        c = b @ np.linalg.solve(V[np.ix_(which, which)], b)
        return {"chi2": c, "df": len(which), "p": stats.chi2.sf(c, len(which))}

    return {"all": wald([1, 2, 4, 5]), "x": wald([1, 4])}


def moments_within():
    d = table("gmm-within-units")
    unit = dummies(d["u"])
    left = lambda v: v - unit @ (unit.T @ v / unit.sum(axis=0))
    y, w = left(numbers(d, "y")), left(numbers(d, "w"))
    Z = np.column_stack([left(numbers(d, "z1")), left(numbers(d, "z2"))])
    W = np.linalg.inv(Z.T @ Z)
    b = (w @ Z @ W @ Z.T @ y) / (w @ Z @ W @ Z.T @ w)
    G = unit.T @ (Z * (y - w * b)[:, None])
    S = np.linalg.inv(G.T @ G)
    b2 = (w @ Z @ S @ Z.T @ y) / (w @ Z @ S @ Z.T @ w)
    g = Z.T @ (y - w * b2)
    return {"b": b2, "j": g @ S @ g}


def penalised():
    d = table("firth-year")
    y, x = numbers(d, "y"), numbers(d, "year") - 2010.0
    X = np.column_stack([np.ones(len(y)), x])

    def value(beta):
        eta = X @ beta
        p = 1 / (1 + np.exp(-eta))
        info = X.T @ ((p * (1 - p))[:, None] * X)
        return float(y @ eta - np.logaddexp(0, eta).sum() + 0.5 * np.linalg.slogdet(info)[1])

    top = optimize.minimize(lambda b: -value(b), np.zeros(2), method="Nelder-Mead",
                            options={"xatol": 1e-13, "fatol": 1e-14, "maxiter": 20000})

    def profile(slope):
        return max(-optimize.minimize_scalar(lambda a: -value(np.array([a, slope])), bracket=(-1, 1),
                                             options={"xtol": 1e-13}).fun, -np.inf)

    fall = stats.chi2.ppf(0.95, 1) / 2
    best = -top.fun
    end = lambda a, b: optimize.brentq(lambda s: best - profile(s) - fall, a, b, xtol=1e-12)
    slope = top.x[1]
    ratio = 2 * (best - profile(0.0))
    return {"slope": slope, "low": end(slope - 0.2, slope), "high": end(slope, slope + 0.2),
            "ratio": ratio, "p": stats.chi2.sf(ratio, 1)}


def main():
    out = {"leverage types": leverage_types(), "several groups": several_groups(),
           "moments within": moments_within(), "penalised": penalised()}
    with open(HERE / "corners_reference.json", "w") as file:
        json.dump(out, file, indent=1)
        file.write("\n")


if __name__ == "__main__":
    main()
