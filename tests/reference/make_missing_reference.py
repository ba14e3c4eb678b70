#!/usr/bin/env python3
"""Reference values for missing answers: missing_reference.json.

Rubin's rules with the degrees of freedom of Barnard & Rubin (1999), the joint test of Li,
Raghunathan & Rubin (1991) with those of Reiter (2007), and complete rows weighted by a logit of
being complete, all in mpmath with 40 digits.
"""
import json
import pathlib

from mpmath import betainc, exp, inf, matrix, mp, mpf, sqrt

mp.dps = 40


def generator(seed):
    state = seed
    while True:
        state = (1103515245 * state + 12345) % 2**31
        yield state / 2**31


def pooled(values, variances, complete):
    m = mpf(len(values))
    q = sum(map(mpf, values)) / m
    within = sum(map(mpf, variances)) / m
    between = sum((mpf(v) - q) ** 2 for v in values) / (m - 1)
    total = within + (1 + 1 / m) * between
    if between == 0:
        df, r = (inf if complete is None else mpf(complete)), mpf(0)
    else:
        share = (1 + 1 / m) * between / total
        old = (m - 1) / share**2
        r = (1 + 1 / m) * between / within
        if complete is None:
            df = old
        else:
            c = mpf(complete)
            seen = (c + 1) / (c + 3) * c * (1 - share)
            df = 1 / (1 / old + 1 / seen)
    fraction = (r + 2 / (df + 3)) / (r + 1)
    return {"value": float(q), "within": float(within), "between": float(between), "variance": float(total),
            "df": None if df == inf else float(df), "fraction": float(fraction)}


def f_tail(f, d1, d2):
    x = d2 / (d2 + d1 * f)
    return betainc(d2 / 2, d1 / 2, 0, x, regularized=True)


def joint(d, within, between, m, complete):
    k = len(d)
    D, U, B = matrix(d), matrix(within), matrix(between)
    inverse = U**-1
    product = B * inverse
    r = (1 + mpf(1) / m) * sum(product[i, i] for i in range(k)) / k
    value = (D.T * inverse * D)[0, 0] / (k * (1 + r))
    t = mpf(k * (m - 1))
    a = r * t / (t - 2)
    if t <= 4:
        df2 = t * (1 + mpf(1) / k) * (1 + 1 / r) ** 2 / 2
    elif complete is None:
        df2 = 4 + (t - 4) * (1 + (1 - 2 / t) / r) ** 2
    else:
        star = (mpf(complete) + 1) / (mpf(complete) + 3) * complete
        c0, c1, c2 = 1 / (t - 4), star - 2 * (1 + a), star - 4 * (1 + a)
        z = 1 / c2 + c0 * (a**2 * c1 / ((1 + a) ** 2 * c2)) \
            + c0 * (8 * a**2 * c1 / ((1 + a) * c2**2) + 4 * a**2 / ((1 + a) * c2)) \
            + c0 * (4 * a**2 / (c2 * c1) + 16 * a**2 * c1 / c2**3) + c0 * (8 * a**2 / c2**2)
        df2 = 4 + 1 / z
    return {"d": d, "within": within, "between": between, "sets": m, "complete": complete,
            "f": float(value), "df2": float(df2), "p": float(f_tail(value, mpf(k), df2))}


draw = generator(29)
rules = []
for values, variances, complete in [
        ([1.2, 1.5, 0.9, 1.1, 1.4], [0.04, 0.05, 0.041, 0.038, 0.047], 87),
        ([1.2, 1.5, 0.9, 1.1, 1.4], [0.04, 0.05, 0.041, 0.038, 0.047], None),
        ([2.0, 2.0, 2.0], [0.1, 0.2, 0.3], 12),
        ([-3.0, 5.0], [0.5, 0.25], 6),
        ([round(next(draw), 4) for _ in range(20)], [round(0.01 + next(draw) / 50, 5) for _ in range(20)], 1043)]:
    rules.append({"values": values, "variances": variances, "complete": complete,
                  "pooled": pooled(values, variances, complete)})

joints = [joint([1.1, -0.4], [[0.09, 0.02], [0.02, 0.05]], [[0.01, -0.004], [-0.004, 0.02]], 20, 95),
          joint([1.1, -0.4], [[0.09, 0.02], [0.02, 0.05]], [[0.01, -0.004], [-0.004, 0.02]], 20, None),
          joint([0.3, 0.2, 0.5], [[0.04, 0.0, 0.01], [0.0, 0.03, 0.0], [0.01, 0.0, 0.06]],
                [[0.02, 0.001, 0.0], [0.001, 0.01, 0.002], [0.0, 0.002, 0.03]], 5, 46),
          joint([0.3, 0.2], [[0.04, 0.0], [0.0, 0.03]], [[0.02, 0.001], [0.001, 0.01]], 3, 46)]

# Rows: y and x have gaps that hang on z and a group; z and g are always there.
n = 150
z = [round(4 * next(draw) - 2, 3) for _ in range(n)]
g = [1 + int(3 * next(draw)) for _ in range(n)]
w = [round(0.5 + 2 * next(draw), 3) for _ in range(n)]
x = [round(0.6 * z[i] + 2 * next(draw) - 1, 3) for i in range(n)]
y = [round(1 + 0.8 * x[i] - 0.3 * z[i] + 0.5 * g[i] + 3 * next(draw) - 1.5, 3) for i in range(n)]
gap_y = [next(draw) < 1 / (1 + float(exp(-(-1.2 + 0.7 * z[i])))) for i in range(n)]
gap_x = [next(draw) < 0.06 * g[i] for i in range(n)]
complete = [0 if gap_y[i] or gap_x[i] else 1 for i in range(n)]


def solve(A, b):
    return A**-1 * b


def logit(rows, target):
    k = len(rows[0])
    b = matrix(k, 1)
    for _ in range(60):
        gradient, hessian = matrix(k, 1), matrix(k, k)
        for r, t in zip(rows, target):
            p = 1 / (1 + exp(-sum(r[j] * b[j] for j in range(k))))
            for j in range(k):
                gradient[j] += r[j] * (t - p)
                for l in range(k):
                    hessian[j, l] += r[j] * r[l] * p * (1 - p)
        step = solve(hessian, gradient)
        b += step
        if max(abs(s) for s in step) < mpf(10) ** -30:
            break
    return b, hessian**-1


foretelling = [[mpf(1), mpf(z[i]), mpf(g[i] == 2), mpf(g[i] == 3)] for i in range(n)]
b, V = logit(foretelling, complete)
chance = [1 / (1 + exp(-sum(r[j] * b[j] for j in range(4)))) for r in foretelling]


def weighted(more):
    rows = [i for i in range(n) if complete[i]]
    weights = {i: more[i] / chance[i] for i in rows}
    mean = sum(weights.values()) / len(rows)
    X = {i: [mpf(1), mpf(x[i]), mpf(z[i])] for i in rows}
    A, c = matrix(3, 3), matrix(3, 1)
    for i in rows:
        for j in range(3):
            c[j] += weights[i] / mean * X[i][j] * mpf(y[i])
            for l in range(3):
                A[j, l] += weights[i] / mean * X[i][j] * X[i][l]
    beta = solve(A, c)
    meat = matrix(3, 3)
    for i in rows:
        e = mpf(y[i]) - sum(X[i][j] * beta[j] for j in range(3))
        for j in range(3):
            for l in range(3):
                meat[j, l] += (weights[i] / mean * e) ** 2 * X[i][j] * X[i][l]
    bread = A**-1
    cov = bread * meat * bread * mpf(len(rows)) / (len(rows) - 3)
    return {"b": [float(v) for v in beta], "se": [float(sqrt(cov[j, j])) for j in range(3)], "rows": len(rows)}


data = {"y": [None if gap_y[i] else y[i] for i in range(n)], "x": [None if gap_x[i] else x[i] for i in range(n)],
        "z": z, "g": [float(v) for v in g], "w": w}
out = {"rules": rules, "joints": joints, "data": data,
       "weighted": {"chance": [float(v) for v in b], "chance_se": [float(sqrt(V[j, j])) for j in range(4)],
                    "plain": weighted([mpf(1)] * n), "sampling": weighted([mpf(v) for v in w])}}
pathlib.Path(__file__).with_name("missing_reference.json").write_text(json.dumps(out, indent=1) + "\n")
