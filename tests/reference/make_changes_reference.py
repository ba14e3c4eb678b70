#!/usr/bin/env python3
"""Reference values for dynamic panels, policy changes, own slopes, replicate weights and the
weighted-unweighted test: changes_reference.json.

Every number from its definition with numpy: instrument matrices written out unit by unit in loops,
generalised inverses by numpy, effects held fixed by explicit indicators. Three data sets of each
kind: one clean, one that fails (errors that echo; effects that grow with time and a slope before the
change; weights that go with the effect), one awkward (few units, gaps, ties).
"""
import json
import math
import pathlib

import numpy as np
import scipy.stats as st

from make_checks_reference import generator, normal

KINDS = ("clean", "fails", "awkward")


def panel_data(kind):
    draw = generator({"clean": 41, "fails": 42, "awkward": 43}[kind])
    units = {"clean": 60, "fails": 80, "awkward": 24}[kind]
    moments = {"clean": 7, "fails": 8, "awkward": 6}[kind]
    out = {name: [] for name in ("u", "t", "y", "x", "p")}
    for u in range(units):
        effect = normal(draw)
        y = effect / 0.5 + normal(draw)
        p = 0.0
        before = 0.0
        for t in range(-3, moments):
            e = normal(draw) * 0.6
            x = 0.5 * effect + normal(draw)
            p = 0.4 * p + 0.5 * e + 0.3 * effect + normal(draw)
            noise = e + (0.6 * before if kind == "fails" else 0.0)
            y = 0.5 * y + 0.7 * x + 0.4 * p + effect + 0.1 * t + noise
            before = e
            if t >= 0 and not (kind == "awkward" and draw() < 0.12):
                out["u"].append(u + 1)
                out["t"].append(2000 + t)
                out["y"].append(round(y, 1 if kind == "awkward" else 4))
                out["x"].append(round(x, 1 if kind == "awkward" else 4))
                out["p"].append(round(p, 4))
    return out


def pinv(S):
    d = np.sqrt(np.maximum(np.diag(S), 0))
    inv = np.where(d > 0, 1 / np.where(d > 0, d, 1), 0)
    values, vectors = np.linalg.eigh(inv[:, None] * S * inv)
    keep = values > 1e-10 * np.abs(values).max()
    half = (inv[:, None] * vectors)[:, keep]
    return half @ np.diag(1 / values[keep]) @ half.T, int(keep.sum())


class Dynamic:
    """y on its lag, p (endogenous) and x (exogenous), moments as indicators where asked."""

    def __init__(self, d, system, collapsed, depth, times):
        cell = {(u, t): i for i, (u, t) in enumerate(zip(d["u"], d["t"]))}
        y, x, p = (np.array(d[k]) for k in "yxp")
        lag = {key: y[cell[(key[0], key[1] - 1)]] for key in cell if (key[0], key[1] - 1) in cell}
        used = [key for key in cell if key in lag]
        names = ["lag", "p", "x"]
        level = {}
        every = sorted({t for _, t in used})
        for key in used:
            row = [lag[key], p[cell[key]], x[cell[key]]]
            if times:
                row += [1.0 if key[1] == t else 0.0 for t in every[1:]]
            level[key] = np.array([1.0] + row)
        if not system:
            level = {key: row[1:] for key, row in level.items()}
        exog = [j for j in range(len(next(iter(level.values())))) if j not in ((1, 2) if system else (0, 1))]
        # what is known at (u, t): the outcome one moment before for the lag, p itself
        past_lag = {(u, t + 1): y[i] for (u, t), i in cell.items()}
        past_p = {key: p[i] for key, i in cell.items()}
        changes = [key for key in used if (key[0], key[1] - 1) in level]
        rows = [(key, "change") for key in changes]
        if system:
            rows += [(key, "level") for key in used]
        self.rows = rows
        columns = {}
        def put(name, i, value):
            columns.setdefault(name, np.zeros(len(rows)))[i] = value
        first = min(t for _, t in cell)
        for i, ((u, t), kind) in enumerate(rows):
            moment = 0 if collapsed else t
            if kind == "change":
                delta = level[(u, t)] - level[(u, t - 1)]
                for j in exog:
                    put(("x", j), i, delta[j])
                for name, past, near in (("lag", past_lag, 1), ("p", past_p, 2)):
                    for by in range(near, (near + depth) if depth else 100):
                        if (u, t - by) in past:
                            put((name, moment, by), i, past[(u, t - by)])
            else:
                for j in exog:
                    put(("x", j), i, level[(u, t)][j])
                for name, past, by in (("lag", past_lag, 0), ("p", past_p, 1)):
                    if (u, t - by) in past and (u, t - by - 1) in past:
                        put(("level " + name, moment), i, past[(u, t - by)] - past[(u, t - by - 1)])
        keys = [k for k in columns if np.abs(columns[k]).max() > 0]
        self.Z = np.column_stack([columns[k] for k in keys])
        self.of_levels = np.array([str(k[0]).startswith("level") for k in keys])
        def value(source, key, kind):
            return source[key] - source[(key[0], key[1] - 1)] if kind == "change" else source[key]
        self.X = np.array([value(level, key, kind) for key, kind in rows])
        ys = {key: y[cell[key]] for key in used}
        self.y = np.array([value(ys, key, kind) for key, kind in rows])
        self.unit = np.array([key[0] for key, _ in rows])
        self.change = np.array([kind == "change" for _, kind in rows])
        # H = MM' where M takes the errors of the levels to the rows.
        errors = {key: j for j, key in enumerate(used)}
        M = np.zeros((len(rows), len(used)))
        for i, (key, kind) in enumerate(rows):
            M[i, errors[key]] = 1
            if kind == "change":
                M[i, errors[(key[0], key[1] - 1)]] = -1
        self.H = M @ M.T
        self.system = system

    def step(self, S, cols=None):
        Z = self.Z if cols is None else self.Z[:, cols]
        W, rank = pinv(S)
        ZX, Zy = Z.T @ self.X, Z.T @ self.y
        bread = np.linalg.inv(ZX.T @ W @ ZX)
        b = bread @ ZX.T @ W @ Zy
        return {"W": W, "rank": rank, "bread": bread, "b": b, "e": self.y - self.X @ b, "ZX": ZX}

    def by_unit(self, v):
        return np.array([self.Z[self.unit == u].T @ v[self.unit == u] for u in np.unique(self.unit)])

    def run(self):
        out = {}
        one = self.step(self.Z.T @ self.H @ self.Z)
        n = int(self.change.sum())
        k = self.X.shape[1]
        s2 = one["e"][self.change] @ one["e"][self.change] / (2 * (n - k))
        G = self.by_unit(one["e"])
        S = G.T @ G
        lead = one["bread"] @ one["ZX"].T @ one["W"]
        V1 = lead @ S @ lead.T
        two = self.step(S)
        # Windmeijer: D by differentiating the two-step estimate numerically is not exact; the formula.
        D = np.zeros((k, k))
        g2 = two["W"] @ (self.Z.T @ two["e"])
        for j in range(k):
            dS = np.zeros_like(S)
            for u in np.unique(self.unit):
                Zu, eu, xu = self.Z[self.unit == u], one["e"][self.unit == u], self.X[self.unit == u, j]
                dS -= Zu.T @ (np.outer(xu, eu) + np.outer(eu, xu)) @ Zu
            D[:, j] = -two["bread"] @ two["ZX"].T @ two["W"] @ dS @ g2
        V2 = two["bread"] + D @ two["bread"] + two["bread"] @ D.T + D @ V1 @ D.T
        out["one"] = {"b": one["b"].tolist(), "classical": np.sqrt(s2 * np.diag(one["bread"])).tolist(),
                      "robust": np.sqrt(np.diag(V1)).tolist(), "serial": self.serial(one, V1)}
        out["two"] = {"b": two["b"].tolist(), "classical": np.sqrt(np.diag(two["bread"])).tolist(),
                      "robust": np.sqrt(np.diag(V2)).tolist(), "serial": self.serial(two, V2)}
        g1 = self.Z.T @ one["e"]
        out["sargan"] = float(g1 @ one["W"] @ g1 / s2)
        out["hansen"] = float((self.Z.T @ two["e"]) @ two["W"] @ (self.Z.T @ two["e"]))
        out["over"] = two["rank"] - k
        out["instruments"] = int(self.Z.shape[1])
        if self.system:
            cols = ~self.of_levels
            part = self.step(S[np.ix_(cols, cols)], cols)
            g = self.Z[:, cols].T @ part["e"]
            out["levels j"] = out["hansen"] - float(g @ part["W"] @ g)
            out["levels df"] = two["rank"] - part["rank"]
        return out

    def serial(self, s, V):
        out = []
        place = {(key, kind): i for i, (key, kind) in enumerate(self.rows)}
        e = s["e"]
        for order in (1, 2):
            w = np.zeros(len(e))
            for (key, kind), i in place.items():
                back = ((key[0], key[1] - order), "change")
                if kind == "change" and back in place:
                    w[i] = e[place[back]]
            units = np.unique(self.unit)
            own = np.array([w[self.unit == u] @ e[self.unit == u] for u in units])
            G = self.by_unit(e)
            wX = self.X.T @ w
            var = own @ own - 2 * wX @ s["bread"] @ s["ZX"].T @ s["W"] @ (G.T @ own) + wX @ V @ wX
            out.append(float(own.sum() / math.sqrt(var)))
        return out


def dynamic():
    out = {}
    for kind in KINDS:
        d = panel_data(kind)
        out[kind] = {"data": d, "cases": {}}
        for system in (False, True):
            for collapsed, depth in ((False, 0), (True, 0), (True, 2)):
                for times in (False, True):
                    name = f"{'system' if system else 'difference'}-gmm {collapsed:d} {depth} {times:d}"
                    out[kind]["cases"][name] = {
                        "method": ("system" if system else "difference") + "-gmm",
                        "collapsed": collapsed, "depth": depth, "times": times,
                        **Dynamic(d, system, collapsed, depth, times).run()}
    return out


def policy_data(kind):
    draw = generator({"clean": 51, "fails": 52, "awkward": 53}[kind])
    units = {"clean": 60, "fails": 80, "awkward": 30}[kind]
    out = {name: [] for name in ("u", "t", "y", "x", "d", "v")}
    for u in range(units):
        effect = normal(draw)
        which = u % 4
        start = {0: 99, 1: 4, 2: 6, 3: 7}[which]
        if kind == "awkward" and which == 0:
            start = 8
        if kind == "fails" and u % 11 == 0:
            start = -1
        for t in range(1, 10):
            x = round(0.3 * effect + normal(draw), 2)
            on = t >= start
            gain = (1.0 + (0.5 * (t - start) if kind == "fails" else 0.0)) if on and start > 0 else 0.0
            slope = 0.15 * t if kind == "fails" and start < 99 else 0.0
            y = effect + 0.2 * t + 0.5 * x + gain + slope + 0.6 * normal(draw)
            if kind == "awkward" and draw() < 0.08:
                continue
            for name, value in zip(out, (u + 1, t, y, x, float(on), u // 3 + 1)):
                out[name].append(round(float(value), 1 if kind == "awkward" and name == "y" else 4))
    return out


def dummies(values):
    values = np.array(values)
    return (values[:, None] == np.unique(values)).astype(float)


def clustered(X, e, groups, k_counted):
    bread = np.linalg.pinv(X.T @ X)
    groups = np.array(groups)
    sums = np.array([X[groups == g].T @ e[groups == g] for g in np.unique(groups)])
    g, n = len(sums), len(e)
    return g / (g - 1) * (n - 1) / (n - k_counted) * bread @ sums.T @ sums @ bread


def residualised(columns, held):
    return columns - held @ np.linalg.lstsq(held, columns, rcond=1e-12)[0]


class Policy:
    def __init__(self, d):
        self.d = {k: np.array(v) for k, v in d.items()}
        u, t, on = self.d["u"], self.d["t"], self.d["d"]
        self.start = {}
        for unit in np.unique(u):
            own = (u == unit) & (on == 1)
            off = (u == unit) & (on == 0)
            self.start[unit] = math.inf if not own.any() else (t[own].min() if off.any() else -math.inf)

    def rows(self, weighting):
        start = np.array([self.start[u] for u in self.d["u"]])
        keep = start > -math.inf
        if not np.isinf(np.array(list(self.start.values()))).any() or not (start == math.inf).any():
            last = max(s for s in self.start.values())
            if weighting != "pooled":
                keep &= self.d["t"] < last
                start = np.where(start == last, math.inf, start)
        return keep, start

    def fit(self, weighting, before, after):
        keep, start = self.rows(weighting)
        d = {k: v[keep] for k, v in self.d.items()}
        start = start[keep]
        rel = np.where(np.isinf(start), np.nan, np.clip(d["t"] - np.where(np.isinf(start), 0, start), -before, after))
        places = [l for l in range(-before, after + 1) if l != -1 and (rel == l).any()]
        held = np.column_stack([dummies(d["u"]), dummies(d["t"])])
        if weighting == "pooled":
            own = [((l,), (rel == l).astype(float)) for l in places]
        else:
            own = [((l, c), ((rel == l) & (start == c)).astype(float))
                   for l in places for c in np.unique(start[~np.isinf(start)]) if ((rel == l) & (start == c)).any()]
        M = residualised(np.column_stack([c for _, c in own] + [d["x"]]), held)
        y = residualised(d["y"], held)
        # Columns that those before them say leave.
        kept = []
        for j in range(M.shape[1]):
            block = M[:, kept + [j]]
            left = M[:, j] - (M[:, kept] @ np.linalg.lstsq(M[:, kept], M[:, j], rcond=1e-12)[0] if kept else 0)
            if np.linalg.norm(left) > 1e-8 * np.linalg.norm(np.ones(len(y))):
                kept.append(j)
        X = M[:, kept]
        b = np.linalg.lstsq(X, y, rcond=1e-12)[0]
        e = y - X @ b
        # Effects of units lie within the units' clusters and do not count; those of moments do.
        counted = len(kept) + 1 + len(np.unique(d["t"])) - 1
        V = clustered(X, e, d["u"], counted)
        names = [own[j][0] if j < len(own) else ("x",) for j in kept]
        if weighting == "cohorts":
            T, out_places = [], []
            for l in places:
                w = np.array([own[j][1].sum() if j < len(own) and own[j][0][0] == l else 0.0 for j in kept])
                if w.sum() > 0:
                    T.append(w / w.sum())
                    out_places.append(l)
            T = np.array(T)
            b, V = T @ b, T @ V @ T.T
        else:
            own_only = [j for j, name in enumerate(names) if name != ("x",)]
            out_places = [names[j][0] for j in own_only]
            b, V = b[own_only], V[np.ix_(own_only, own_only)]
        lead = [i for i, l in enumerate(out_places) if l < 0]
        lag = [i for i, l in enumerate(out_places) if l >= 0]
        wald = float(b[lead] @ np.linalg.solve(V[np.ix_(lead, lead)], b[lead]) / len(lead)) if lead else None
        return {"places": out_places, "b": b.tolist(), "se": np.sqrt(np.diag(V)).tolist(), "before": wald,
                "after": float(b[lag].mean()), "after se": float(math.sqrt(V[np.ix_(lag, lag)].sum()) / len(lag))}

    def group_time(self, before, after, against, groups, with_x):
        keep, start = self.rows("group-time")
        d = {k: v[keep] for k, v in self.d.items()}
        start = start[keep]
        units = list(dict.fromkeys(d["u"]))
        of = {u: start[d["u"] == u][0] for u in units}
        cluster = {u: d[groups][d["u"] == u][0] for u in units}
        cell = {(u, t): i for i, (u, t) in enumerate(zip(d["u"], d["t"]))}
        cohorts = sorted({s for s in of.values() if not math.isinf(s)})
        moments = sorted(set(d["t"]))
        found = {}
        for c in cohorts:
            for t in moments:
                l = int(t - c)
                if l == -1 or not -before <= l <= after:
                    continue
                mine = [u for u in units if of[u] == c and (u, t) in cell and (u, c - 1) in cell]
                others = [u for u in units if (u, t) in cell and (u, c - 1) in cell and of[u] != c and
                          (math.isinf(of[u]) or (against == "not-yet" and of[u] > max(t, c - 1)))]
                k = 2 if with_x else 1
                if not mine or len(others) <= k:
                    continue
                def both(who):
                    X = np.array([[1.0] + ([d["x"][cell[(u, c - 1)]]] if with_x else []) for u in who])
                    y = np.array([d["y"][cell[(u, t)]] - d["y"][cell[(u, c - 1)]] for u in who])
                    return X, y
                X1, y1 = both(mine)
                X0, y0 = both(others)
                b = np.linalg.lstsq(X0, y0, rcond=None)[0]
                left = y1 - X1 @ b
                att = left.mean()
                psi = {u: (left[i] - att) / len(mine) for i, u in enumerate(mine)}
                turned = np.linalg.solve(X0.T @ X0, X1.mean(0))
                for i, u in enumerate(others):
                    psi[u] = psi.get(u, 0) - turned @ X0[i] * (y0[i] - X0[i] @ b)
                found.setdefault(l, []).append((c, len(mine), att, psi))
        names = sorted(found)
        columns = []
        b = []
        for l in names:
            total = sum(n for _, n, _, _ in found[l])
            mean = sum(n * a for _, n, a, _ in found[l]) / total
            psi = {u: 0.0 for u in units}
            for c, n, a, own in found[l]:
                for u, v in own.items():
                    psi[u] += n / total * v
                for u in units:
                    if of[u] == c:
                        psi[u] += (a - mean) / total
            columns.append([psi[u] for u in units])
            b.append(mean)
        P = np.array(columns)
        labels = np.array([cluster[u] for u in units])
        sums = np.array([P[:, labels == g].sum(1) for g in np.unique(labels)])
        V = sums.T @ sums
        return {"places": names, "b": b, "se": np.sqrt(np.diag(V)).tolist()}

    def two_way(self):
        """The plain effect over units with every moment, without terms, and negative weights."""
        moments = np.unique(self.d["t"])
        full = [u for u in np.unique(self.d["u"]) if (self.d["u"] == u).sum() == len(moments)]
        keep = np.isin(self.d["u"], full)
        held = np.column_stack([dummies(self.d["u"][keep]), dummies(self.d["t"][keep])])
        D = residualised(self.d["d"][keep], held)
        effect = float(D @ self.d["y"][keep] / (D @ D))
        all_held = np.column_stack([dummies(self.d["u"]), dummies(self.d["t"]), self.d["x"]])
        left = residualised(self.d["d"], all_held)
        w = left[self.d["d"] == 1]
        return {"effect": effect, "units": len(full), "negative": int((w < 0).sum()),
                "sum": float(w[w < 0].sum() / w.sum())}

    def own_slopes(self):
        u, t = self.d["u"], self.d["t"]
        U = dummies(u)
        held = np.column_stack([U, U * (t - t.mean())[:, None], dummies(t)])
        M = residualised(np.column_stack([self.d["d"], self.d["x"]]), held)
        y = residualised(self.d["y"], held)
        b = np.linalg.solve(M.T @ M, M.T @ y)
        e = y - M @ b
        rank = np.linalg.matrix_rank(np.column_stack([held, self.d["d"], self.d["x"]]), tol=1e-9)
        V = e @ e / (len(y) - rank) * np.linalg.inv(M.T @ M)
        return {"b": b.tolist(), "se": np.sqrt(np.diag(V)).tolist(), "df": int(len(y) - rank)}


def policies():
    out = {}
    for kind in KINDS:
        d = policy_data(kind)
        p = Policy(d)
        out[kind] = {"data": d, "pooled": p.fit("pooled", 3, 3), "cohorts": p.fit("cohorts", 3, 3),
                     "two-way": p.two_way(), "own slopes": p.own_slopes()}
        for against in ("not-yet", "never"):
            if against == "never" and kind == "awkward":
                continue
            for with_x in (False, True):
                for groups in ("u", "v"):
                    out[kind][f"group-time {against} {with_x:d} {groups}"] = p.group_time(3, 3, against, groups, with_x)
    return out


def survey_data(kind):
    draw = generator({"clean": 61, "fails": 62, "awkward": 63}[kind])
    n = {"clean": 120, "fails": 150, "awkward": 30}[kind]
    out = {name: [] for name in ("y", "x", "g", "s", "c", "w")}
    for i in range(n):
        s = i % 3 + 1
        c = i // 6 + 1
        if kind == "awkward" and s == 3:
            c = 50
        w = round(0.5 + 2 * draw() + (s == 2), 2)
        x = round(normal(draw) + 0.3 * s, 1 if kind == "awkward" else 3)
        slope = 0.5 + (0.4 * w if kind == "fails" else 0.0)
        y = round(1 + slope * x + 0.3 * (i % 2) + 0.4 * math.sin(c) + 0.8 * normal(draw), 3)
        for name, value in zip(out, (y, x, i % 2, s, c, w)):
            out[name].append(value)
    groups = sorted(set(out["c"]))[:20]
    for r, group in enumerate(groups):
        out[f"r{r + 1}"] = [0.0 if c == group else round(w * len(groups) / (len(groups) - 1), 6)
                            for w, c in zip(out["w"], out["c"])]
    return out


def surveys():
    out = {}
    for kind in KINDS:
        d = survey_data(kind)
        a = {k: np.array(v, dtype=float) for k, v in d.items()}
        X = np.column_stack([np.ones(len(a["y"])), a["x"], a["g"]])
        y, w = a["y"], a["w"] / a["w"].mean()
        n, k = X.shape
        bread = np.linalg.inv(X.T @ (w[:, None] * X))
        b = bread @ X.T @ (w * y)
        e = y - X @ b
        one = {"data": d, "b": b.tolist()}
        for lonely in ("centred", "skipped"):
            meat = np.zeros((k, k))
            clusters = 0
            for s in np.unique(a["s"]):
                own = np.unique(a["c"][a["s"] == s])
                clusters += len(own)
                sums = np.array([(X * (w * e)[:, None])[(a["s"] == s) & (a["c"] == c)].sum(0) for c in own])
                if len(own) == 1:
                    meat += 0 if lonely == "skipped" else np.outer(sums[0], sums[0])
                else:
                    off = sums - sums.mean(0)
                    meat += len(own) / (len(own) - 1) * off.T @ off
            V = bread @ meat @ bread
            simple = bread @ (X.T @ ((w * e * e)[:, None] * X)) @ bread * w.sum() / (n - 1)
            one[lonely] = {"se": np.sqrt(np.diag(V)).tolist(), "deff": (np.diag(V) / np.diag(simple)).tolist(),
                           "df": clusters - 3}
        names = [name for name in d if name.startswith("r")]
        draws = np.array([np.linalg.solve(X.T @ (a[r][:, None] * X), X.T @ (a[r] * y)) for r in names])
        off = draws - b
        R = len(names)
        one["replicates"] = R
        one["jackknife"] = np.sqrt((R - 1) / R * (off ** 2).sum(0)).tolist()
        one["balanced .3"] = np.sqrt((off ** 2).sum(0) / R / 0.7 ** 2).tolist()
        one["bootstrap"] = np.sqrt((off ** 2).mean(0)).tolist()
        big = np.column_stack([X, a["w"][:, None] * X])
        r0 = y - X @ np.linalg.lstsq(X, y, rcond=None)[0]
        c = np.linalg.lstsq(big, y, rcond=None)[0]
        r1 = y - big @ c
        f = (r0 @ r0 - r1 @ r1) / k / (r1 @ r1 / (n - 2 * k))
        inverse = np.linalg.inv(big.T @ big)
        V = n / (n - 2 * k) * inverse @ (big.T @ ((r1 ** 2)[:, None] * big)) @ inverse
        robust = c[k:] @ np.linalg.solve(V[k:, k:], c[k:]) / k
        one["weights"] = {"f": float(f), "p": float(st.f.sf(f, k, n - 2 * k)), "robust": float(robust)}
        out[kind] = one
    return out


if __name__ == "__main__":
    here = pathlib.Path(__file__).parent
    result = {"dynamic": dynamic(), "policy": policies(), "survey": surveys()}
    (here / "changes_reference.json").write_text(json.dumps(result) + "\n")
