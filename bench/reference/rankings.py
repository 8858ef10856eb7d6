"""Writes made-up rankings with the measures that scikit-learn gives them, for the tests of the measures.

    python3 bench/reference/rankings.py > crates/core/tests/suite/rankings.json

Scores have ties, grades go from 0 to 3, and some relevant items are missing from the ranking. scikit-learn knows no missing items:
for the gain they stand behind all others, beyond `count`; for the average precision the value of the items that are there is
multiplied by the share of the relevant ones that are there.
"""

import json
import random

from sklearn.metrics import average_precision_score, ndcg_score

random.seed(2026)
cases = []
while len(cases) < 60:
    length = random.randint(2, 20)
    grades = [random.choice([0, 0, 0, 1, 1, 2, 3]) for _ in range(length)]
    tied = len(cases) % 2 == 0
    scores = [random.randint(0, 6) / 4 for _ in range(length)] if tied else random.sample(range(100), length)
    missing = [random.randint(1, 3) for _ in range(random.randint(0, 3))]
    relevant = [grade > 0 for grade in grades]
    if not any(relevant):
        continue
    count = random.randint(1, length)
    there = sum(relevant) / (sum(relevant) + len(missing))
    behind = [min(scores) - 1 - at for at in range(len(missing))]
    cases.append({
        "grades": grades,
        "scores": scores,
        "missing": missing,
        "count": count,
        "ndcg": ndcg_score([grades + missing], [scores + behind], k=count),
        "average_precision": average_precision_score(relevant, scores) * there,
    })
print(json.dumps(cases, indent=1))
