# Two commands do everything on a fresh machine: `make demo` and `make test`.

PYTHON ?= python3
VENV   ?= .venv
BIN     = $(VENV)/bin
# Compiled modules are kept, whatever the machine's habit: the program starts in half the time.
export PYTHONDONTWRITEBYTECODE :=
ifndef DEMO
DEMO   := $(shell mktemp -d -u narvet-demo-XXXXXX)
endif

# What the tests' real judges need: a hypervisor, and what a small guest is put together from.
PACKAGES = busybox-static cpio gcc grub-common kmod libc6-dev mount qemu-block-extra qemu-system-x86 util-linux xz-utils

# Tests that are run beside the real judges, so that both halves take as long.
BESIDE = $(addprefix tests/test_,$(addsuffix .py,prove ntfs ext4 xfs filesystem_bytes retire trust sealed))
RUN = pytest

.PHONY: demo test check covered versions packages prove screenshots reference site speed clean

demo: $(VENV)/ready
	$(BIN)/narvet demo $(DEMO)
	@$(BIN)/python -m tests.real.show $(DEMO)/sheet.toml

test: packages $(VENV)/ready check
ifdef TESTS
	$(BIN)/pytest $(TESTS)
else
	@# Two halves side by side: the real judges with what needs no program of its own, then the rest; what the first
	@# half says comes last.
	@said=$$(mktemp); \
	    $(BIN)/$(RUN) --durations 6 tests/real $(BESIDE) >$$said 2>&1 & real=$$!; \
	    $(BIN)/$(RUN) --durations 12 --ignore tests/real $(addprefix --ignore ,$(BESIDE)); rest=$$?; \
	    wait $$real; status=$$?; cat $$said; exit $$((rest | status))
endif

# The same tests, slower, and then what none of them went through.
covered: export COVERAGE_FILE = $(shell mktemp -d)/all
covered: $(VENV)/ready
	@$(MAKE) -s test RUN="coverage run -m pytest"; status=$$?; \
	    $(BIN)/coverage combine --quiet && $(BIN)/coverage json --quiet -o $$COVERAGE_FILE.json && \
	    $(BIN)/python -m tests.covered $$COVERAGE_FILE.json; exit $$status

# The tests without the real judges, on every supported Python that is found here.
versions: packages
	@for version in 3.11 3.12 3.13 3.14; do \
	    python=$$(command -v python$$version || ls $$HOME/.pyenv/versions/$$version.*/bin/python 2>/dev/null | tail -n 1); \
	    [ -z "$$python" ] && { echo "Python $$version: not here"; continue; }; \
	    $(MAKE) -s $(VENV)-$$version/ready VENV=$(VENV)-$$version PYTHON=$$python && \
	    $(VENV)-$$version/bin/pytest -q --ignore tests/real --ignore tests/test_prove.py || exit 1; \
	done

check: $(VENV)/ready
	$(BIN)/ruff check src tests benchmarks docs
	$(BIN)/ruff format --check src tests benchmarks docs
	$(BIN)/mypy
	$(BIN)/lint-imports

$(VENV)/ready: pyproject.toml
	$(PYTHON) -m venv $(VENV) || { apt-get update && apt-get install -y python3-venv && $(PYTHON) -m venv $(VENV); }
	$(BIN)/pip install --quiet --disable-pip-version-check --root-user-action ignore --editable '.[dev]'
	touch $@

# Installed where we may; elsewhere the tests that need them say so and skip.
packages:
	@dpkg-query -W $(PACKAGES) >/dev/null 2>&1 || [ "$$(id -u)" != 0 ] || ! command -v apt-get >/dev/null || \
	    { apt-get update -q && DEBIAN_FRONTEND=noninteractive apt-get install -q -y --no-install-recommends $(PACKAGES); }

screenshots: $(VENV)/ready
	docs/screenshots/take $(BIN)

# The pages that the code itself writes: rules, keys, schema.
reference: $(VENV)/ready
	$(BIN)/python docs/reference.py

# The pages and the library's reference as a site, in build/site.
site: $(VENV)/ready
	$(BIN)/pip install --quiet --disable-pip-version-check --root-user-action ignore --editable '.[site]'
	$(BIN)/mkdocs build --strict

speed: $(VENV)/ready
	@$(BIN)/python benchmarks/speed.py > docs/speed.md
	@echo >> docs/speed.md
	@$(BIN)/python benchmarks/fleet.py /dev/shm >> docs/speed.md

# As long as you let it; `make prove ROUNDS=1` for some minutes.
prove: packages $(VENV)/ready
	$(BIN)/python -m tests.prove $(ROUNDS)

clean:
	rm -rf $(VENV) $(VENV)-3.* build narvet-demo-*
