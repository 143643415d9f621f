"""The root finder."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from amber_ruler.numeric.roots import bracketed_root


@given(st.floats(-50, 50), st.floats(0.01, 100), st.sampled_from([1.0, 3.0, 5.0]))
def test_it_finds_the_root_of_steep_and_flat_functions(root, slope, power):
    """Odd powers around a root, flat or steep, are solved to the last digits."""
    found = bracketed_root(
        lambda x: slope * np.sign(x - root) * np.abs(x - root) ** power, np.array(-60.0), np.array(70.0)
    )
    assert float(found) == pytest.approx(root, rel=1e-14, abs=1e-14)


def test_it_solves_many_at_once_each_in_its_own_bracket():
    """Elementwise brackets, roots at ends included."""
    target = np.array([0.0, 1e-12, 2.0, 1e9])
    found = bracketed_root(lambda x: x**3 - target**3, np.zeros(4), np.array([1.0, 1.0, 2.0, 1e10]))
    assert found == pytest.approx(target, rel=1e-13)
