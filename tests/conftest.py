"""What holds for every test."""

import sys
from urllib.parse import quote

import pytest


@pytest.fixture(autouse=True)
def no_figure_stays_open():
    """Close what a test drew."""
    yield
    if "matplotlib.pyplot" in sys.modules:
        sys.modules["matplotlib.pyplot"].close("all")


@pytest.fixture(scope="session")
def postgres(tmp_path_factory):
    """The URL of a PostgreSQL server of our own, started for the tests that ask for it and stopped after them."""
    pgserver = pytest.importorskip("pgserver", reason="there is no embedded PostgreSQL for this Python")
    server = pgserver.get_server(tmp_path_factory.mktemp("postgres"), cleanup_mode="delete")
    yield f"postgresql://postgres:@/postgres?host={quote(str(server.pgdata))}"
    server.cleanup()
