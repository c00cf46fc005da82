# Common Bench. `make demo` and `make test` do all the set-up themselves on a fresh Debian machine.
PYTHON = .venv/bin/python

# Tests that run at one time. Most of them wait for kits, so that more than the cores are of use.
AT_ONCE ?= 4

.PHONY: demo test bench shots fuzz ready

ready:
	@setup/ready
	@setup/warm

# The window where there is a display; the whole headless lesson where there is none.
demo: ready
	@if [ -n "$$DISPLAY$$WAYLAND_DISPLAY" ]; then .venv/bin/common-bench demo; \
	else rm -rf out/demo && .venv/bin/common-bench demo --headless --out out/demo; fi

test fuzz bench: export FOR_TESTS = 1

# Code is checked while loops are compiled.
test:
	@setup/ready
	@setup/warm & warmed=$$!; set -ex; .venv/bin/ruff check src tests bench; .venv/bin/ruff format --check src tests bench; .venv/bin/mypy; wait $$warmed
	QT_QPA_PLATFORM=$${QT_QPA_PLATFORM:-offscreen} $(PYTHON) -m pytest -n $(AT_ONCE) --dist worksteal

bench: ready
	$(PYTHON) bench/measure.py

shots: ready
	$(PYTHON) bench/shots.py

# Every property with other and with more examples; the proofs that take long; lessons and windows driven by state machines, which shrink what they find;
# then the rim (damaged books, hostile kits and texts, floods), and the readers, coverage-guided, ten minutes (SECONDS_TO_RUN=… for another time). What is found becomes an @example or a test.
# The fuzzer is needed for nothing else.
fuzz: ready
	$(PYTHON) -m pip install -q --disable-pip-version-check atheris==3.0.0
	PROFILE=explore QT_QPA_PLATFORM=offscreen $(PYTHON) -m pytest -n $(AT_ONCE) --timeout 3600 $$(grep -lE "@given|StateMachine|from chance" tests/*.py)
	QT_QPA_PLATFORM=offscreen $(PYTHON) -m pytest -n $(AT_ONCE) -m long_proof
	NUMBA_BOUNDSCHECK=1 NUMBA_CACHE_DIR=out/checked $(PYTHON) -m pytest -n $(AT_ONCE) tests/test_loops.py tests/test_forms.py tests/test_form_values.py
	$(PYTHON) bench/rim.py
	$(PYTHON) bench/fuzz.py
	$(PYTHON) bench/files.py
