#!/usr/bin/env python3
"""The law of the largest Wald statistic of a break at an unknown place (Andrews 1993), trimmed by 15 %
at both ends: simulated, and fitted by 1 − p ≈ χ²(η) at θ₀ + θ₁x as Hansen (1997) does. Prints the
table of core/checks/break_path.cpp and the largest error of p over p ≤ .8.
"""
import numpy as np
import scipy.optimize as so
import scipy.stats as st

N, DRAWS, MOST = 2000, 30000, 20
rng = np.random.default_rng(19930)
s = np.arange(1, N + 1) / N
inside = (s >= 0.15) & (s <= 0.85)
scale = (s * (1 - s))[inside]
sup = np.zeros((DRAWS, MOST))
for d in range(0, DRAWS, 50):
    total = np.zeros((50, inside.sum()))
    for k in range(MOST):
        w = np.cumsum(rng.standard_normal((50, N), dtype=np.float32), axis=1, dtype=np.float64) / np.sqrt(N)
        bridge = w - s * w[:, -1:]
        total += bridge[:, inside]**2 / scale
        sup[d:d + 50, k] = total.max(1)
levels = np.concatenate([np.arange(0.8, 0.1, -0.05), [0.1, .08, .06, .05, .04, .03, .02, .01, .005, .002]])
for k in range(1, MOST + 1):
    x = np.quantile(sup[:, k - 1], 1 - levels)
    weight = 1 / np.sqrt(levels * (1 - levels))
    loss = lambda v: (((st.chi2.sf(v[0] + v[1] * x, np.exp(v[2])) - levels) * weight)**2).sum()
    fits = [so.minimize(loss, (a, b, np.log(k + c)), method="Nelder-Mead", options={"maxiter": 6000, "xatol": 1e-9, "fatol": 1e-13})
            for a in (-2.0, 0.0) for b in (0.8, 1.2) for c in (0.5, 4.0)]
    v = min(fits, key=lambda f: f.fun).x
    worst = np.abs(st.chi2.sf(v[0] + v[1] * x, np.exp(v[2])) - levels)
    print(f"    {{{v[0]:.5f}, {v[1]:.5f}, {np.exp(v[2]):.5f}}},  // {k}: off by {worst.max():.4f}, by {worst[levels <= 0.1].max():.4f} under .1; 5 % at {x[levels.tolist().index(.05)]:.2f}", flush=True)
