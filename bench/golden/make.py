#!/usr/bin/env python3
"""Writes the figures that the core's tests are held against, computed by SciPy, scikit-learn and NumPy.

    sudo apt-get install python3-scipy python3-sklearn
    /usr/bin/python3 bench/golden/make.py

The tests read what it wrote and need none of that. All data are made up, from a fixed seed.
"""

import itertools
import json
import math
import os

import numpy as np
from scipy import spatial, special, stats
from sklearn import inspection, metrics

HERE = os.path.join(os.path.dirname(__file__), "..", "..", "internal", "core")
rng = np.random.default_rng(20261126)


def write(package, data):
    folder = os.path.join(HERE, package, "testdata")
    os.makedirs(folder, exist_ok=True)
    with open(os.path.join(folder, "golden.json"), "w") as f:
        json.dump(data, f, indent=1)
        f.write("\n")


def floats(x):
    return [float(v) for v in x]


# --- evaluate


def regression(n, weighted):
    truth = np.round(rng.normal(20, 6, n), 2)
    truth[:2] = [0, 0] if n > 10 else truth[:2]
    predicted = np.round(truth + rng.normal(0.5, 2, n), 2)
    weights = np.round(rng.uniform(0.2, 3, n), 2) if weighted else np.ones(n)
    d, a = predicted - truth, np.abs(predicted - truth)
    some = truth != 0
    want = {
        "mae": metrics.mean_absolute_error(truth, predicted, sample_weight=weights),
        "rmse": metrics.mean_squared_error(truth, predicted, sample_weight=weights) ** 0.5,
        "r2": metrics.r2_score(truth, predicted, sample_weight=weights),
        "bias": np.average(d, weights=weights),
        "mape": metrics.mean_absolute_percentage_error(truth[some], predicted[some], sample_weight=weights[some]),
        "smape": np.average(2 * a / (np.abs(truth) + np.abs(predicted)), weights=weights),
    }
    if not weighted:
        want["median_error"] = metrics.median_absolute_error(truth, predicted)
        want["residuals"] = floats(
            np.quantile(d, [0.01, 0.05, 0.25, 0.5, 0.75, 0.95, 0.99], method="averaged_inverted_cdf")
        )
    return {
        "truth": floats(truth),
        "predicted": floats(predicted),
        "weights": floats(weights) if weighted else None,
        "want": {k: v if isinstance(v, list) else float(v) for k, v in want.items()},
    }


def classification(n, weighted):
    levels = ["leaking", "ok", "sticking"]
    truth = rng.choice(levels, n, p=[0.15, 0.6, 0.25])
    raw = rng.dirichlet([1, 1, 1], n) + 1.2 * (truth[:, None] == np.array(levels)[None, :])
    scores = np.round(raw / raw.sum(axis=1, keepdims=True), 2)
    scores[:, 2] = np.round(1 - scores[:, 0] - scores[:, 1], 2)
    scores = np.clip(scores, 0.01, 0.98)
    scores /= scores.sum(axis=1, keepdims=True)
    predicted = np.array(levels)[scores.argmax(axis=1)]
    w = np.round(rng.uniform(0.2, 3, n), 2) if weighted else None
    own = (truth[:, None] == np.array(levels)[None, :]).astype(float)
    conf, right = scores.max(axis=1), (predicted == truth).astype(float)
    weights = np.ones(n) if w is None else w
    bins = np.clip(np.ceil(conf * 10).astype(int) - 1, 0, 9)
    ece = sum(
        weights[bins == b].sum()
        / weights.sum()
        * abs(np.average(right[bins == b], weights=weights[bins == b]) - np.average(conf[bins == b], weights=weights[bins == b]))
        for b in range(10)
        if (bins == b).any()
    )
    p, r, f, _ = metrics.precision_recall_fscore_support(truth, predicted, labels=levels, sample_weight=w)
    want = {
        "confusion": [floats(row) for row in metrics.confusion_matrix(truth, predicted, labels=levels, sample_weight=w)],
        "accuracy": metrics.accuracy_score(truth, predicted, sample_weight=w),
        "balanced": metrics.balanced_accuracy_score(truth, predicted, sample_weight=w),
        "precision": floats(p),
        "recall": floats(r),
        "f1": floats(f),
        "macro_f1": metrics.f1_score(truth, predicted, average="macro", sample_weight=w),
        "weighted_f1": metrics.f1_score(truth, predicted, average="weighted", sample_weight=w),
        "matthews": metrics.matthews_corrcoef(truth, predicted, sample_weight=w),
        "log_loss": metrics.log_loss(truth, scores, labels=levels, sample_weight=w),
        "brier": np.average(((scores - own) ** 2).sum(axis=1), weights=weights),
        "roc_auc": [metrics.roc_auc_score(own[:, k], scores[:, k], sample_weight=w) for k in range(3)],
        "pr_auc": [metrics.average_precision_score(own[:, k], scores[:, k], sample_weight=w) for k in range(3)],
        "calibration_error": ece,
    }
    # from the highest threshold down, all points
    curves = {"receiver": [], "precision_recall": []}
    for k in range(3):
        x, y, _ = metrics.roc_curve(own[:, k], scores[:, k], sample_weight=w, drop_intermediate=False)
        curves["receiver"].append([floats(x), floats(y)])
        precision, recall, _ = metrics.precision_recall_curve(own[:, k], scores[:, k], sample_weight=w)
        curves["precision_recall"].append([floats(recall[:-1][::-1]), floats(precision[:-1][::-1])])
    return {
        "curves": curves,
        "levels": levels,
        "truth": list(truth),
        "predicted": list(predicted),
        "scores": [floats(row) for row in scores],
        "weights": floats(w) if weighted else None,
        "want": {k: v if isinstance(v, list) else float(v) for k, v in want.items()},
    }


write(
    "evaluate",
    {
        "regression": [regression(n, w) for n in (7, 40, 101) for w in (False, True)],
        "classification": [classification(n, w) for n in (60, 300) for w in (False, True)],
    },
)

# --- interval


def wilson(k, n, c):
    i = stats.binomtest(k, n).proportion_ci(c, method="wilson")
    return float(i.low), float(i.high)


def newcombe(k1, n1, k2, n2, c):
    (l1, u1), (l2, u2) = wilson(k1, n1, c), wilson(k2, n2, c)
    p1, p2 = k1 / n1, k2 / n2
    d = p2 - p1
    return d - ((p2 - l2) ** 2 + (u1 - p1) ** 2) ** 0.5, d + ((u2 - p2) ** 2 + (p1 - l1) ** 2) ** 0.5


def ranks(n, q, c):
    b = stats.binom(n, q)
    tail = (1 - c) / 2
    low = next(l for l in range(0, n + 2) if l == n + 1 or b.cdf(l) > tail)
    high = next(h for h in range(1, n + 2) if h == n + 1 or b.cdf(h - 1) >= 1 - tail)
    return low, high


pairs = [(0, 12), (3, 40), (17, 400), (1, 9000), (250, 9000), (12, 12)]
write(
    "interval",
    {
        "wilson": [[k, n, c, *wilson(k, n, c)] for k, n in pairs for c in (0.9, 0.95, 0.99)],
        "newcombe": [[*a, *b, c, *newcombe(*a, *b, c)] for a in pairs for b in pairs for c in (0.95, 0.99)],
        "ranks": [[n, q, c, *ranks(n, q, c)] for n in (5, 40, 399, 4000) for q in (0.5, 0.9, 0.99) for c in (0.95, 0.99)],
    },
)

# --- drift


def drift(b, n, m, shift):
    p = rng.multinomial(n, np.full(b, 1 / b))
    q = rng.multinomial(m, (np.arange(b) * shift + 1) / (np.arange(b) * shift + 1).sum())
    ps, qs = (p + 0.5) / (n + 0.5 * b), (q + 0.5) / (m + 0.5 * b)
    noise = stats.chi2(b - 1)
    table = np.array([p, q])
    g = stats.chi2_contingency(table, correction=False, lambda_="log-likelihood")
    gap = float(np.abs(np.cumsum(p) / n - np.cumsum(q) / m).max())
    root = (n * m / (n + m)) ** 0.5
    psi = float(((qs - ps) * np.log(qs / ps)).sum())
    return {
        "p": [int(x) for x in p],
        "q": [int(x) for x in q],
        "psi": psi,
        "noise_p": float(noise.sf(psi * n * m / (n + m))),
        "noise_99": float(noise.ppf(0.99) * (1 / n + 1 / m)),
        "jensen_shannon": float(spatial.distance.jensenshannon(p / n, q / m, base=2)),
        "ks": gap,
        "ks_p": float(special.kolmogorov((root + 0.12 + 0.11 / root) * gap)),
        "g": float(g[0]),
        "g_p": float(g[1]),
        "wasserstein": float(stats.wasserstein_distance(np.arange(b) + 0.5, np.arange(b) + 0.5, p, q)),
    }


pvalues = np.round(rng.uniform(0, 1, 12) ** 3, 4)
order = np.argsort(pvalues)
adjusted = np.empty(12)
adjusted[order] = np.minimum.accumulate((pvalues[order] * 12 / np.arange(1, 13))[::-1])[::-1]
write(
    "drift",
    {
        "pairs": [drift(*c) for c in ((10, 4000, 900, 0), (20, 800, 700, 0.05), (6, 300, 5000, 0.4), (10, 90000, 80000, 0.3))],
        "p_values": floats(pvalues),
        "adjusted": floats(adjusted),
    },
)

# --- compare: the Mantel–Haenszel difference with the variance of Greenland and Robins, and the Bayes factor of a share

strata = []
for _ in range(12):
    n1, n2 = int(rng.integers(4000, 9000)), int(rng.integers(300, 5000))
    rate = rng.uniform(0.01, 0.2)
    strata.append([int(rng.binomial(n1, rate)), n1, int(rng.binomial(n2, rate + 0.01)), n2])
x1, n1, x2, n2 = (np.array(c, dtype=float) for c in zip(*strata))
w = n1 * n2 / (n1 + n2)
mh = float((w * (x2 / n2 - x1 / n1)).sum() / w.sum())
gr = float(((x1 * (n1 - x1) * n2**3 + x2 * (n2 - x2) * n1**3) / (n1 * n2 * (n1 + n2) ** 2)).sum() / w.sum() ** 2)


def ratio(c, n, s, k=2000):
    return float(
        special.betaln(k * s + c, k * (1 - s) + n - c)
        - special.betaln(k * s, k * (1 - s))
        - c * np.log(s)
        - (n - c) * np.log(1 - s)
    )


write(
    "compare",
    {
        "strata": strata,
        "difference": mh,
        "variance": gr,
        "ratio": [[c, n, s, ratio(c, n, s)] for c, n, s in ((0, 10, 0.05), (52, 1000, 0.05), (900, 1000, 0.5), (5200, 100000, 0.05))],
    },
)


# --- explain


class Town:
    """The function of the tests of core/explain: inputs that work together, and one that does nothing."""

    _estimator_type = "regressor"
    classes_ = None

    def fit(self, x, y):
        self.fitted_ = True
        return self

    def predict(self, x):
        x = np.asarray(x)
        return 2 * x[:, 0] - x[:, 1] * x[:, 2] + np.where(x[:, 0] > 0, x[:, 1], 0)


def shapley(f, row, background):
    """Shapley values by all coalitions, over a background."""
    n = len(row)
    value = {}
    for size in range(n + 1):
        for own in itertools.combinations(range(n), size):
            mixed = np.array(background)
            mixed[:, own] = row[list(own)]
            value[own] = f(mixed).mean()
    out = []
    for i in range(n):
        rest = [k for k in range(n) if k != i]
        phi = 0.0
        for size in range(n):
            weight = math.factorial(size) * math.factorial(n - size - 1) / math.factorial(n)
            for own in itertools.combinations(rest, size):
                phi += weight * (value[tuple(sorted(own + (i,)))] - value[own])
        out.append(phi)
    return out


def explained():
    x = np.round(rng.normal(0, 1, (200, 4)), 3)
    model = Town().fit(x, None)
    truth = np.round(model.predict(x) + rng.normal(0, 0.3, 200), 3)
    found = inspection.permutation_importance(
        model, x, truth, scoring="neg_mean_absolute_error", n_repeats=200, random_state=1)
    few = np.round(rng.normal(0, 1, (25, 4)), 1)
    curves = []
    for i in range(4):
        of = inspection.partial_dependence(model, few, [i], kind="both", percentiles=(0, 1), grid_resolution=1000)
        curves.append({"at": floats(of["values"][0]), "mean": floats(of["average"][0]),
                       "individual": [floats(c) for c in of["individual"][0]]})
    row = np.array([0.7, -1.1, 0.4, 2.0])
    write("explain", {
        "x": [floats(r) for r in x], "truth": floats(truth), "rises": floats(found.importances_mean),
        "few": [floats(r) for r in few], "dependence": curves,
        "row": floats(row), "shapley": floats(shapley(model.predict, row, few)),
    })


explained()
