"""Any table in: a file or a dataframe becomes variants, samples and moments."""

from amber_ruler.tables.split_check import SplitCheck, check_split
from amber_ruler.tables.table import Table, table
from amber_ruler.tables.variants import ByVariant

__all__ = ["ByVariant", "SplitCheck", "Table", "check_split", "table"]
