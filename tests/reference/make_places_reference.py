#!/usr/bin/env python3
"""Where outcomes stand in the law of a fit, and the squared index: places_reference.json.

Takes data and estimates of outcomes_reference.json. For each row the shares of the law below its
outcome and up to it, by scipy.stats (counts by their distribution functions, mixtures written out);
for the squared index the estimator's own likelihood on a constant, the index and its square.
"""
import json
import math
import pathlib

import numpy as np
import scipy.stats as st

from make_outcomes_reference import LAWS, Model, design, logistic, normal_cdf


def law_of(name, mu, alpha):
    """Distribution function of a count at y, y below zero included."""
    if name == "poisson":
        return lambda y: st.poisson.cdf(y, mu)
    size = 1 / alpha if name == "nb2" else mu / alpha
    return lambda y: st.nbinom.cdf(y, size, size / (size + mu))


def square_of(eta, rows_of, start, w):
    """z of the square: rows_of(X) makes the likelihood's rows of coefficients of X and the rest."""
    centred = eta - eta.mean()
    X = np.column_stack([np.ones(len(eta)), centred, centred ** 2])
    m = Model(rows_of(X), start, w).fit()
    V = np.linalg.inv(-m.H)
    return m.theta, np.sqrt(np.diag(V))


def counts(reference):
    out = {}
    for kind, one in reference["counts"].items():
        if "cases" not in one:
            continue
        a, X, off = design(one["data"], kind != "fails")
        y, k = a["y"], X.shape[1]
        Z = np.column_stack([np.ones(len(y)), a["z"]])
        out[kind] = {}
        for name, case in one["cases"].items():
            if name.endswith("weighted") or name.startswith("fixed"):
                continue
            b = np.array(case["b"])
            words = name.split(" ")
            two = words[0] in ("zero-inflated", "hurdle", "truncated")
            law = words[1] if two else words[0]
            keep = y > 0 if words[0] == "truncated" else np.ones(len(y), bool)
            mu = np.exp(X[keep] @ b[:k] + off[keep])
            alpha = math.exp(b[-1]) if law != "poisson" else None
            F = law_of(law, mu, alpha)
            yk = y[keep]
            below, upto = F(yk - 1), F(yk)
            if words[0] in ("zero-inflated", "hurdle"):
                pi = logistic(Z @ b[k:k + 2])
                if words[0] == "zero-inflated":
                    below = np.where(yk > 0, pi + (1 - pi) * below, 0)
                    upto = pi + (1 - pi) * upto
                else:
                    zero = F(0 * yk)
                    below = np.where(yk > 0, 1 - pi + pi * (below - zero) / (1 - zero), 0)
                    upto = np.where(yk > 0, 1 - pi + pi * (upto - zero) / (1 - zero), 1 - pi)
            elif words[0] == "truncated":
                zero = F(0 * yk)
                below, upto = (below - zero) / (1 - zero), (upto - zero) / (1 - zero)
            found = {"below": below.tolist(), "upto": upto.tolist()}
            if not two:
                f = LAWS[law]
                eta = X @ b[:k]
                extra = [] if law == "poisson" else [b[-1]]
                rows_of = lambda C: lambda t: f(y, np.exp(C @ t[:3] + off), np.exp(t[-1]))
                theta, se = square_of(eta, rows_of, [eta.mean(), 1.0, 0.0] + extra, None)
                found["square"] = theta[2] / se[2]
            out[kind][name] = found
    return out


def yes_no(reference):
    out = {}
    for kind, one in reference["yes-no"].items():
        a = {key: np.array(v) for key, v in one["data"].items()}
        X = np.column_stack([np.ones(len(a["y"])), a["x"], a["g"]])
        out[kind] = {}
        links = {"logit": logistic, "probit": normal_cdf, "cloglog": lambda z: 1 - np.exp(-np.exp(z))}
        y = a["y"]
        for name, F in links.items():
            eta = X @ np.array(one["cases"][name]["b"])
            p = F(eta)
            rows_of = lambda C, F=F: lambda t: np.where(y == 1, np.log(F(C @ t)), np.log(1 - F(C @ t)))
            theta, se = square_of(eta, rows_of, [eta.mean(), 1.0, 0.0], None)
            out[kind][name] = {"below": np.where(y == 1, 1 - p, 0).tolist(), "upto": np.where(y == 1, 1, 1 - p).tolist(),
                               "square": theta[2] / se[2]}
        place = np.searchsorted(np.unique(a["o"]), a["o"])
        for name, F in (("ordered-logit", logistic), ("ordered-probit", normal_cdf)):
            b = np.array(one["cases"][name]["b"])
            eta, cuts = X[:, 1:] @ b[:2], b[2:]

            def share(eta_t, cuts_t, F=F):
                up = np.where(place < len(cuts_t), F(cuts_t[np.minimum(place, len(cuts_t) - 1)] - eta_t), 1.0)
                low = np.where(place > 0, F(cuts_t[np.maximum(place - 1, 0)] - eta_t), 0.0)
                return low, up

            low, up = share(eta, cuts)

            def rows_of(C, F=F):
                def rows(t):
                    low_t, up_t = share(C[:, 1:] @ t[:2], t[2:], F)
                    return np.log(up_t - low_t)
                return rows
            theta, se = square_of(eta, rows_of, [1.0, 0.0] + (cuts - eta.mean()).tolist(), None)
            out[kind][name] = {"below": low.tolist(), "upto": up.tolist(), "square": theta[1] / se[1]}
        b = np.array(one["cases"]["tobit"]["b"])
        t0 = a["t"]
        eta, sigma = X @ b[:3], math.exp(b[3])
        z = (t0 - eta) / sigma
        below = np.where(t0 > 0, normal_cdf(z), 0.0)

        def tobit_of(C):
            def rows(t):
                eta_t, sigma_t = C @ t[:3], np.exp(t[3])
                z_t = (t0 - eta_t) / sigma_t
                return np.where(t0 > 0, -0.5 * z_t * z_t - t[3] - 0.5 * math.log(2 * math.pi), np.log(normal_cdf(-eta_t / sigma_t)))
            return rows
        theta, se = square_of(eta, tobit_of, [eta.mean(), 1.0, 0.0, b[3]], None)
        out[kind]["tobit"] = {"below": below.tolist(), "upto": normal_cdf(z).tolist(), "square": theta[2] / se[2]}
    return out


if __name__ == "__main__":
    here = pathlib.Path(__file__).parent
    known = json.loads((here / "outcomes_reference.json").read_text())
    result = {"counts": counts(known), "yes-no": yes_no(known)}
    (here / "places_reference.json").write_text(json.dumps(result) + "\n")
