"""Settings that methods have in common are declared once, shown everywhere, and obeyed."""

import inspect
import subprocess
import sys
from collections import defaultdict
from typing import Literal, get_args, get_origin

import numpy as np
import pytest

import amber_ruler as ar
from amber_ruler import AmberRulerError
from amber_ruler.cli import methods as commands
from amber_ruler.docstrings import described
from amber_ruler.register import METHODS
from amber_ruler.results import Measurement
from amber_ruler.settings import COMMON
from test_laws import COLUMNS, EVERY, asked, call, data

WRONG = """
import amber_ruler as ar

a, b = [1.0, 2.0, 4.0], [2.0, 3.0, 7.0]
ar.measure.means(a, b, alpa=0.1)
ar.measure.factors({}, margin=0.1)
ar.measure.ranks(a, b, margin_lift=0.1)
ar.measure.means(a, b, alternative="larger")
ar.measure.means(a, b, alpha=0.1, null=0.5, margin_lift=0.2, good="lower", metric="fare")
reveal_type(ar.measure.means(a, b))
reveal_type(ar.measure.mean(a, null=1.0))
"""


def test_a_type_checker_refuses_a_setting_that_a_method_does_not_take(tmp_path):
    """Misspelt, of another method, or not of its kind; and the type of the answer is known."""
    (tmp_path / "wrong.py").write_text(WRONG, encoding="utf-8")
    line = [sys.executable, "-m", "mypy", "--strict", "--ignore-missing-imports", "--no-error-summary"]
    found = subprocess.run([*line, str(tmp_path / "wrong.py")], capture_output=True, text=True, check=False).stdout
    refused = [int(row.split(":")[1]) for row in found.splitlines() if ": error:" in row and "wrong.py" in row]
    assert refused == [5, 6, 7, 8], found
    assert 'Revealed type is "amber_ruler.results.measurement.Comparison"' in found
    assert 'Revealed type is "amber_ruler.results.measurement.Estimate"' in found


@pytest.mark.parametrize("method", EVERY)
def test_signature_docstring_and_help_name_the_same_keywords(method):
    """With the usual values; a name that is not there is refused as Python does, with the nearest."""
    function = call(method)
    shown = inspect.signature(function).parameters
    assert [n for n, p in shown.items() if p.kind is p.KEYWORD_ONLY] == list(method.settings)
    assert {n: p.default for n, p in shown.items()} == {
        n: p.default for n, p in (*((n, shown[n]) for n in method.data), *method.settings.items())
    }
    assert set(described(function)) == set(shown)
    with pytest.raises(TypeError, match="unexpected keyword argument 'alpa'"):
        asked(method, alpa=0.1)
    name = method.name.replace("_", "-")
    options = {p.name for p in commands._command(method.room, name).params}
    assert set(method.settings) - {"metric", "labels", "names", "others"} <= options


def test_every_option_has_a_text_of_its_own():
    """No help is empty or names another page, and within a command no two options share one."""
    common = defaultdict(set)
    for (room, name), method in METHODS.items():
        texts = defaultdict(list)
        for option in commands._command(room, name.replace("_", "-")).params:
            text = (getattr(option, "help", None) or "").strip()
            if option.name == "help" or getattr(option, "hidden", False):
                continue
            assert text, (room, name, option.name)
            assert "As for" not in text, (room, name, option.name)
            texts[text].append(option.name)
            if option.name in COMMON and option.name not in described(method.bare):
                common[option.name].add(text)
        shared = {text: names for text, names in texts.items() if len(names) > 1}
        assert not shared, (room, name, shared)
    assert {name: len(texts) for name, texts in common.items()} == dict.fromkeys(common, 1)


# Words for the values that a setting may have, where its type does not say them.
VALUES = {
    "at": [0.25], "known_sd": [(3.0, 3.0), 3.0], "null": [0.4, 1.5], "margin": [0.3], "margin_lift": [0.3],
    "cap": [0.8], "cap_at": [5.0], "alpha": [0.2], "odds": [2.0], "seed": [5], "until": [9.0],
    "expected": [[0.2, 0.3, 0.5]],
    "covariate": ["prior"], "covariates": ["prior"], "correlation": [0.3], "share": [0.1], "level": [0.9],
}  # fmt: skip
# Settings that change no number, by method or in all.
EXEMPT = {
    "metric": "a name, for the heading",
    "measured_in": "a unit of measurement, which is shown",
    "labels": "names",
    "names": "names",
    "clusters.spanning": "of clusters that span variants, and these do not",
    "geometric.zeros": "of values among which are zeros, and these have none",
}


def candidates(method, name, item):
    """Values that a setting may be given instead of its usual one."""
    if name in VALUES:
        return VALUES[name]
    if name in method.columns:
        return [COLUMNS[name]] if name in COLUMNS else ["prior", "day"]
    hints = [item.annotation, *get_args(item.annotation)]
    words = [word for hint in hints if get_origin(hint) is Literal for word in get_args(hint)]
    if words:
        return [word for word in words if word != item.default]
    return [0.7, 2.0, 3, (0.2, 0.8)]


def computed(result):
    """Numbers and verdicts, in a plain form."""
    found = result.to_dict()
    for name in ("title", "metric", "axis", "labels"):
        found.pop(name, None)
    return found


@pytest.mark.parametrize("method", EVERY)
def test_every_setting_of_every_method_is_obeyed_or_refused(method):
    """Another value changes the answer, or is an error that names the setting; nothing is taken in silence."""
    base, (_, given) = asked(method), data(method)
    for name, item in method.settings.items():
        if {name, f"{method.name}.{name}"} & set(EXEMPT) or name == "others" or name in given:
            continue
        outcomes = []
        for value in candidates(method, name, item):
            try:
                outcomes.append(computed(asked(method, **{name: value})) != computed(base))
            except AmberRulerError as error:
                outcomes.append(len(str(error)) > 12)
        assert any(outcomes), name


@pytest.mark.parametrize("method", [one for one in EVERY if "metric" in one.values[0].settings])
def test_a_metric_is_called_what_it_is_called(method):
    """In the title, or in the field of its name."""
    found = asked(method, metric="tips")
    assert "tips" in f"{found.title} {getattr(found, 'metric', '')}"


def test_importing_the_methods_composes_signatures_without_reading_types():
    """Types are read when a method is first asked: the settings of most methods are not known after an import."""
    code = (
        "import amber_ruler.measure, amber_ruler.register as r;"
        "assert not any('settings' in vars(m) for m in r.METHODS.values())"
    )
    subprocess.run([sys.executable, "-c", code], check=True)


def test_a_unit_of_measurement_stands_beside_the_numbers(tmp_path):
    """In sentence, axis, frame, JSON and every form of the report; refused of what is not in the metric's unit."""
    rows = {"fare": [3.0, 5.0, 4.0, 9.0], "port": ["a", "b"] * 2}
    r = ar.measure.means(rows["fare"], [2.0, 4.0, 3.0, 1.0], measured_in="€", metric="fare")
    assert "2.75 € higher" in r.sentence()
    assert "fare, difference (€)" in r.plot().get_xlabel()
    assert r.to_frame()["measured_in"].tolist() == ["€"]
    assert ar.Result.from_json(r.to_json()).measured_in == r.again(alpha=0.1).measured_in == "€"
    assert "estimate, €" in str(
        ar.measure.means(ar.Summary([9, 9], [4.0, 5], 1.0), ar.Summary(9, 1.0, 1.0), measured_in="€")
    )
    with pytest.raises(ar.InputError, match="measured_in has no effect on proportions"):
        ar.measure.proportions(ar.Counts(3, 9), ar.Counts(2, 9), measured_in="€")
    metrics = {"fare": {"role": "primary", "measured_in": "€"}}
    keys = {
        "name": "F",
        "unit": "traveller",
        "assignment": {"column": "form", "control": "current"},
        "metrics": metrics,
    }
    test = ar.Experiment(ar.demo.path("travellers"), **keys)
    assert " € (97.5% interval" in str(test.decide())
    for form in ("html", "md", "json", "csv"):
        assert "€" in test.report(tmp_path / f"report.{form}").read_text(encoding="utf-8")


def test_docstrings_may_be_left_out():
    """Under -OO there is no docstring to compose, and everything else is as ever."""
    code = "import amber_ruler as ar; r = ar.measure.means([1., 2, 4], [2., 3, 7], alpha=0.1); print(r.interval.level)"
    found = subprocess.run([sys.executable, "-OO", "-c", code], check=True, capture_output=True, text=True)
    assert found.stdout.strip() == "0.9"


def test_a_measurement_is_asked_again_with_its_common_settings():
    """They are in the result's own question, with their usual values where none was given."""
    r = ar.measure.means([1.0, 2.0, 4.0], [2.0, 3.0, 7.0], margin=0.5)
    assert isinstance(r, Measurement)
    assert r.again(margin=None).margin is None
    assert np.array_equal(r.again().estimate, r.estimate)


def test_laws_of_all_methods_are_of_registered_ones():
    """The laws ask every method."""
    assert len(EVERY) == len(METHODS)
    assert all(data(one.values[0]) for one in EVERY)
