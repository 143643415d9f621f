"""One module for each kind of result: how it is laid out, and what it says."""
