"""What a process has loaded from which the program is forked: all of it, and what it loads when it needs that."""

import gc
import importlib
import pkgutil

import kiboko

for each in pkgutil.walk_packages(kiboko.__path__, "kiboko."):
    if not each.name.endswith("__main__"):
        importlib.import_module(each.name)
for name in ("pyarrow.csv", "pyarrow.json", "pyarrow.parquet", "rich.console", "rich.table"):
    importlib.import_module(name)
gc.freeze()
