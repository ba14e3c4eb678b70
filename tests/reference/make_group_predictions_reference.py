#!/usr/bin/env python3
"""Reference values for what is told of single groups: group_predictions_reference.json.

The cases of levels_reference.json. Henderson's mixed model equations are inverted as a whole: their
inverse is the covariance of (b, u-hat - u), and a prediction x'b + z'u its quadratic form; whoever is
new has the variance z'Gz beside it. Satterthwaite's degrees of freedom by central differences of
that quadratic form over variances, with the inverse of their observed information.
"""
import json
import pathlib

import numpy as np

from make_levels_reference import Model, hessian


def places(nested):
    out = [{"x": 4.0, "z": 1.0, "g": 3.0}, {"x": 2.0, "z": 0.5}, {"x": 1.0, "z": 2.0, "g": 0.0},
           {"x": 3.5, "z": 0.75, "g": 3.0}]
    if nested:
        for s, g, k in ((out[0], 1.0, 2.0), (out[2], 0.0, 0.0), (out[3], 1.0, 2.0)):
            s["g"], s["k"] = g, k
        out.append({"x": 3.0, "z": 1.0, "k": 4.0})
    return out


def forms(model, d, levels, scenarios):
    """Of each scenario x and a row over all effects of groups; and z of levels whose group is new."""
    names = [l["by"] for l in levels]
    out = []
    for s in scenarios:
        x = np.array([1.0, s["x"], s["z"]])
        rows, new = [], []
        for place, (lev, l) in enumerate(zip(levels, model.levels)):
            z = np.array([1.0] + [s[name] for name in lev.get("slopes", [])])
            w = np.zeros(l["Z"].shape[1])
            known = all(name in s for name in names[place:])
            if known:
                i = next(i for i in range(len(d["y"])) if all(d[name][i] == s[name] for name in names[place:]))
                w[l["ids"][i] * l["q"]:(l["ids"][i] + 1) * l["q"]] = z
            rows.append(w)
            new.append(None if known else z)
        out.append((np.concatenate([x] + rows), new))
    return out


def solved(model, s2, G):
    """(b, u) and the covariance of what is uncertain about them."""
    Z = np.column_stack([l["Z"] for l in model.levels])
    Gi = np.zeros((Z.shape[1],) * 2)
    at = 0
    for l, g in zip(model.levels, G):
        w = l["Z"].shape[1]
        Gi[at:at + w, at:at + w] = np.kron(np.eye(l["G"]), np.linalg.inv(g))
        at += w
    W = np.column_stack([model.X, Z])
    R = 1 / (s2 * model.R)
    A = W.T @ (R[:, None] * W)
    p = model.X.shape[1]
    A[p:, p:] += Gi
    C = np.linalg.inv(A)
    return C @ (W.T @ (R * model.y)), C


if __name__ == "__main__":
    folder = pathlib.Path(__file__).parent
    levels = json.loads((folder / "levels_reference.json").read_text(encoding="utf-8"))
    out = []
    for at, case in enumerate(levels["cases"]):
        if case["boundary"]:
            continue
        d = levels["data"][case["data"]]
        model = Model(d, case["levels"], case["restricted"], case["weighted"])
        s2, G = case["sigma"] ** 2, [np.array(g) for g in case["covariances"]]
        scenarios = places(case["data"] == "nested")
        rows = forms(model, d, case["levels"], scenarios)
        f = model.flat(s2, G)
        h = 1e-3 * np.maximum(np.abs(f), 0.02)
        A = 2 * np.linalg.inv(hessian(lambda v: model.deviance(*model.unflat(v)), f, h=h))

        def law(form):
            v = lambda t: float(form @ solved(model, *model.unflat(t))[1] @ form)
            D = []
            for j in range(len(f)):
                e = np.zeros(len(f))
                e[j] = h[j]
                D.append((8 * (v(f + e) - v(f - e)) - (v(f + 2 * e) - v(f - 2 * e))) / (12 * h[j]))
            D = np.array(D)
            return {"value": float(form @ solved(model, s2, G)[0]), "se": float(np.sqrt(v(f))),
                    "df": float(2 * v(f) ** 2 / (D @ A @ D))}

        predictions = []
        for place, (s, (form, new)) in enumerate(zip(scenarios, rows)):
            one = {"at": s, **law(form)}
            one["row_variance"] = float(s2 + sum(z @ g @ z for z, g in zip(new, G) if z is not None))
            if place > 0:
                one["difference"] = law(form - rows[0][0])
            predictions.append(one)
        contrast = np.zeros(len(rows[0][0]))
        contrast[1], contrast[2] = 1.0, -1.0
        slope = np.zeros(len(contrast))  # Of x in group 3, its own slope counted in.
        slope[1] = 1.0
        if case["levels"][0].get("slopes"):
            l = model.levels[0]
            i = next(i for i in range(len(d["y"])) if d["g"][i] == 3.0)
            slope[3 + l["ids"][i] * l["q"] + 1] = 1.0
        out.append({"case": at, "predictions": predictions, "x less z": law(contrast), "effect of x": law(slope)})
        print(case["data"], out[-1]["x less z"], out[-1]["effect of x"], flush=True)
    (folder / "group_predictions_reference.json").write_text(json.dumps(out, indent=1) + "\n", encoding="utf-8")
