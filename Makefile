# The two commands a newcomer needs are 'make demo' and 'make test'.
.PHONY: demo test search bench shots prepare lint types layers pictures

PY := .venv/bin/python

prepare:
	@scripts/prepare.sh

demo: prepare
	@scripts/on-screen.sh $(PY) -m humble_loop --demo

test: prepare lint types layers pictures
	xvfb-run -a -s "-screen 0 1600x1000x24" $(PY) -m pytest

# Look for new examples that break a property: minutes, and not the same ones twice. Prints what it found.
search: prepare
	HUMBLE_LOOP_SEARCH=1 xvfb-run -a -s "-screen 0 1600x1000x24" $(PY) -m pytest --timeout 7200 tests/engine tests/geometry tests/ground tests/kinds tests/site tests/whole tests/formats/test_damaged.py tests/formats/test_text_layout.py tests/formats/test_saving.py tests/formats/test_site_file.py tests/desk/test_random_use.py

bench: prepare
	xvfb-run -a -s "-screen 0 1280x800x24" $(PY) -m benchmarks

shots: prepare
	@$(PY) scripts/make_shots.py

lint:
	$(PY) -m ruff check .

types:
	$(PY) -m mypy

layers:
	.venv/bin/lint-imports

pictures:
	$(PY) scripts/make_shots.py --check
