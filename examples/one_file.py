"""One experiment file from the plan to the report: what to do with each form, and why."""

from pathlib import Path
from tempfile import TemporaryDirectory

import amber_ruler as ar

test = ar.Experiment.from_file(ar.demo.experiment())
print(test.plan().sentence())

found = test.check()
print(found.sentence())

decision = test.decide()
for treatment, word in decision.words.items():
    print(f"{word} {treatment}: {decision.reasons[treatment][-1].kind}")

with TemporaryDirectory() as folder:
    page = test.report(Path(folder) / "report.html").read_text(encoding="utf-8")
print(f"The report begins with the decision: {'Ship short' in page[: page.index('<nav')]}.")
