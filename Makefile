# Two commands on a fresh machine do everything: `make demo` and `make test`.
PYTHON ?= python3
VENV   := .venv
BIN    := $(VENV)/bin
STAMP  := $(VENV)/.installed

SARIF  := $(VENV)/sarif

LOCK   := constraints.txt
NEWEST := .venv-newest
OLDEST := .venv-oldest
PIP    := -m pip install --quiet --disable-pip-version-check

.PHONY: demo test compiled newest oldest lock verify fuzz lint bench evidence schema clean

# What is installed has the versions of the lock, so that both commands do the same on any day.
$(STAMP): pyproject.toml $(LOCK)
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python $(PIP) --constraint $(LOCK) --editable '.[dev]'
	touch $(STAMP)

# The lock made anew from the newest releases that pyproject.toml allows.
lock:
	rm -rf $(NEWEST)
	$(PYTHON) -m venv $(NEWEST)
	$(NEWEST)/bin/python $(PIP) '.[dev]'
	echo "# Exact versions for 'make demo' and 'make test', made by 'make lock'; pyproject.toml has the ranges." > $(LOCK)
	$(NEWEST)/bin/python -m pip freeze --disable-pip-version-check --exclude kiboko >> $(LOCK)

# The tests on the newest releases: which versions differ from the lock, and what comes of it. Each command line starts an
# interpreter here, where `make test` forks a process that has loaded the program.
newest:
	rm -rf $(NEWEST)
	$(PYTHON) -m venv $(NEWEST)
	$(NEWEST)/bin/python $(PIP) --editable '.[dev]'
	-$(NEWEST)/bin/python -m pip freeze --disable-pip-version-check --exclude-editable | diff $(LOCK) - | grep '^[<>] [^#]'
	KIBOKO_FROM_NOTHING=1 $(NEWEST)/bin/python tests/run.py

# The tests on the oldest releases that pyproject.toml allows.
oldest:
	rm -rf $(OLDEST)
	$(PYTHON) -m venv $(OLDEST)
	sed -n 's/^    "\([A-Za-z]*\)>=\([0-9.]*\).*/\1==\2/p' pyproject.toml | sort -u > $(OLDEST)/oldest.txt
	$(OLDEST)/bin/python $(PIP) --constraint $(OLDEST)/oldest.txt --editable '.[dev]'
	$(OLDEST)/bin/python tests/run.py

demo: compiled
	$(BIN)/kiboko demo

test: compiled $(SARIF)
	$(BIN)/python tests/run.py

# Compiled first, as any installed program is: where Python may not write beside the sources, each start would compile.
compiled: $(STAMP)
	$(BIN)/python -m compileall -q src

# The schema that OASIS publishes for SARIF, from a package that holds it: a test holds what `audit` writes to it.
$(SARIF): $(STAMP)
	mkdir -p $(SARIF)
	-cd $(SARIF) && npm pack --silent @microsoft/jest-sarif@1.0.0-beta.0 >/dev/null && tar xzf *.tgz && rm *.tgz

# Every pair and service of all random networks, all kernel rule sets, and what logs of faulty networks prove: about an
# hour; then tables, sets, reach and differences against walks. `make test` runs a few of each.
verify: $(STAMP)
	KIBOKO_NETWORKS=200 KIBOKO_PROBES=0 KIBOKO_RULE_SETS=200 KIBOKO_TRUTH=200 $(BIN)/python -m unittest \
		tests.replica.test_replica tests.core.test_kernel_rules tests.replica.test_truth \
		tests.replica.test_truth_of_strangers tests.replica.test_truth_of_exporters
	KIBOKO_NETWORKS=30 $(BIN)/python -m unittest tests.core.test_gate_tables tests.core.test_probes_judged tests.core.test_space tests.core.test_sets \
		tests.core.test_reach tests.core.test_difference tests.core.test_evaluator tests.core.test_inspection \
		tests.core.test_unreached tests.core.test_unclear_rules tests.core.test_listed_rules \
		tests.core.test_matrix tests.core.test_rehearsing tests.core.test_worsened tests.core.test_rule_usage \
		tests.core.test_turning tests.core.test_watch tests.core.test_row_verdicts \
		tests.replica.test_rule_sets_on_the_way

lint: $(STAMP)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# Damaged datagrams, messages and files, then random command lines, for ten minutes each.
fuzz: $(STAMP)
	$(BIN)/python -m tests.fuzz 600
	$(BIN)/python -m tests.fuzz_commands 600

bench: compiled
	$(BIN)/python bench/startup.py
	$(BIN)/python bench/loading.py
	$(BIN)/python bench/collecting.py
	$(BIN)/python bench/judging.py
	$(BIN)/python bench/estate.py
	$(BIN)/python bench/as_logs_come.py
	$(BIN)/python bench/space.py
	$(BIN)/python bench/long_lists.py
	$(BIN)/python bench/confirming.py

# Record the demo's evidence anew (root, or unprivileged user namespaces).
evidence: $(STAMP)
	$(BIN)/python -m kiboko.demo.recording src/kiboko/demo/mto/evidence

schema: $(STAMP)
	$(BIN)/python -m kiboko.files.network.schema > docs/network-file.schema.json

clean:
	rm -rf $(VENV) $(NEWEST) build dist src/*.egg-info
