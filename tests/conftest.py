"""What holds for every test."""

import sys

import pytest


@pytest.fixture(autouse=True)
def no_figure_stays_open():
    """Close what a test drew."""
    yield
    if "matplotlib.pyplot" in sys.modules:
        sys.modules["matplotlib.pyplot"].close("all")
