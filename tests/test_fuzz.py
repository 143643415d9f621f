"""The short form of the fuzzer: every registered method with drawn input; `benchmarks/fuzz.py` goes on."""

import warnings
from functools import partial

import fuzz
import fuzz_doors
import numpy as np
import pytest

EVERY = [pytest.param(m, id=".".join(key)) for key, m in sorted(fuzz.METHODS.items())]


@pytest.mark.parametrize("method", EVERY)
def test_drawn_input_is_answered_soundly_or_refused(method, monkeypatch):
    """An answer that holds together in every medium, or an error of ours."""
    monkeypatch.setattr(fuzz, "SECONDS", 20.0)  # the machine may be busy
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        ends, found = fuzz.through(partial(fuzz.one, method=method), 24, seed=7)
    assert not found, "\n".join(found[:3])
    assert ends["answered"] >= 1


@pytest.mark.parametrize("door", fuzz.DOORS)
def test_the_other_doors_answer_soundly_or_refuse(door, monkeypatch):
    """Plans, tables, saved files and the command line, the same way."""
    monkeypatch.setattr(fuzz_doors, "SLACK", 20.0)
    with warnings.catch_warnings(), np.errstate(all="ignore"):
        warnings.simplefilter("ignore")
        ends, found = fuzz.through(fuzz.DOORS[door], 60, seed=7)
    assert not found, "\n".join(found[:3])
    assert ends["answered"] >= 2


def test_the_fuzzer_sees_what_does_not_hold():
    """A p against its interval, limits the wrong way round and a label that acts are faults."""
    from dataclasses import replace

    import amber_ruler as ar

    r = ar.measure.means([1.0, 2.0, 4.0], [1.5, 2.5, 2.0])
    assert not list(fuzz.faults(r, 0.0, drawn=True))
    assert any("against" in f for f in fuzz.faults(replace(r, test=replace(r.test, p_value=1e-9)), 0.0, drawn=False))
    turned = replace(r.interval, low=r.interval.high, high=r.interval.low)
    assert any("interval" in f for f in fuzz.faults(replace(r, interval=turned), 0.0, drawn=False))
    assert any("p is" in f for f in fuzz.faults(replace(r, test=replace(r.test, p_value=1.5)), 0.0, drawn=False))
    assert list(fuzz.faults(r, 2.0, drawn=False)) == ["took 2.0 s"]
