"""Results as one JSON document."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Iterable

    from amber_ruler.results import Result

SCHEMA = "amber-ruler answers 1"


def document(results: Iterable[Result]) -> dict[str, Any]:
    """Return plain JSON types: the schema's version, the package's, and each result with its sentence."""
    from amber_ruler import __version__

    return {
        "schema": SCHEMA,
        "version": __version__,
        "results": [{**r.to_dict(), "sentence": r.sentence()} for r in results],
    }


def json_text(results: Iterable[Result]) -> str:
    """Return `document` as text."""
    return json.dumps(document(results), indent=2, ensure_ascii=False, allow_nan=False)
