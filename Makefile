# Two commands on a fresh machine do everything: `make demo` and `make test`.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.installed

.PHONY: demo test verify fuzz lint bench evidence schema screenshots clean

$(STAMP): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $(STAMP)

demo: $(STAMP)
	$(BIN)/kiboko demo

test: $(STAMP)
	$(BIN)/python tests/run.py

# Every pair and service of all random networks, and all kernel rule sets: about half an hour; `make test` runs a few.
verify: $(STAMP)
	KIBOKO_NETWORKS=200 KIBOKO_PROBES=0 KIBOKO_RULE_SETS=200 $(BIN)/python -m unittest tests.replica.test_replica \
		tests.core.test_kernel_rules

lint: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# Damaged datagrams, messages and files for ten minutes.
fuzz: $(STAMP)
	$(BIN)/python -m tests.fuzz 600

# Compiled first, as any installed program is: where Python may not write beside the sources, each start would compile.
bench: $(STAMP)
	$(BIN)/python -m compileall -q src
	$(BIN)/python bench/startup.py
	$(BIN)/python bench/loading.py
	$(BIN)/python bench/collecting.py
	$(BIN)/python bench/judging.py
	$(BIN)/python bench/confirming.py

# Record the demo's evidence anew (root, or unprivileged user namespaces).
evidence: $(STAMP)
	$(BIN)/python -m kiboko.demo.recording src/kiboko/demo/mto/evidence

schema: $(STAMP)
	$(BIN)/python -m kiboko.files.schema > docs/network-file.schema.json

clean:
	rm -rf $(VENV) build dist src/*.egg-info
