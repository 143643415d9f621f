"""Any table in: a file or a dataframe becomes variants, samples and moments."""

from amber_ruler.digest import Digest
from amber_ruler.samples import ByVariant
from amber_ruler.tables.description import Described, Description
from amber_ruler.tables.findings import Findings
from amber_ruler.tables.per_unit import Measure, any_of, count, first, largest, last, total
from amber_ruler.tables.split_check import SplitCheck, check_split
from amber_ruler.tables.table import Table, table
from amber_ruler.tables.warehouse import from_database

__all__ = [
    "ByVariant",
    "Described",
    "Description",
    "Digest",
    "Findings",
    "Measure",
    "SplitCheck",
    "Table",
    "any_of",
    "check_split",
    "count",
    "first",
    "from_database",
    "largest",
    "last",
    "table",
    "total",
]
