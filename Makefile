.PHONY: start serve stop backup restore test battery release bench lint format screenshots types step-docs docs notebook mutants

start:
	@scripts/setup --demo
	@.venv/bin/python scripts/start.py

serve:
	@scripts/setup --serve
	@.venv/bin/python scripts/start.py --sign-in --address "$${ADDRESS:-127.0.0.1:8417}" $${TLS_CERT:+--tls-cert "$$TLS_CERT"} $${TLS_KEY:+--tls-key "$$TLS_KEY"}

stop:
	@python3 scripts/postgres.py stop

backup:
	@[ -n "$$FILE" ] || { echo "where to? make backup FILE=moths.tar" >&2; exit 2; }
	@.venv/bin/python scripts/backup.py backup "$$FILE"

restore:
	@[ -n "$$FILE" ] || { echo "from what? make restore FILE=moths.tar" >&2; exit 2; }
	@scripts/setup
	@.venv/bin/python scripts/backup.py restore "$$FILE" $${REPLACE:+--replace}

test:
	@scripts/setup --dev
	@scripts/together scripts/front-tests scripts/check
	@.venv/bin/python -m pytest tests/package tests/core -n auto --durations 10
	@scripts/together ".venv/bin/python -m pytest tests/docs/test_pages.py --durations 10" ".venv/bin/python -m pytest tests/scripts tests/server --durations 10" ".venv/bin/python -m pytest tests/docs/test_notebook.py tests/docs/test_site.py tests/browser --durations 10"

battery:
	@scripts/setup --dev
	@VARLEN_BATTERY=1 .venv/bin/python -m pytest -s tests/battery
	@VARLEN_BATTERY=1 .venv/bin/python -m pytest -n auto tests/core/datasets/test_hostile.py tests/core/editions/test_tampering.py tests/core/editions/test_full_disk.py
	@VARLEN_BATTERY=1 .venv/bin/python -m pytest tests/server/test_hostile.py tests/server/test_full_disk.py tests/server/access tests/scripts/test_backup.py

release:
	@scripts/setup --dev
	@.venv/bin/python scripts/release.py

bench:
	@scripts/setup --dev
	@.venv/bin/python benchmarks/run.py $${TABLES:-}

lint:
	@scripts/setup --dev
	@scripts/check

format:
	@.venv/bin/ruff format core server tests benchmarks scripts && .venv/bin/ruff check --fix -q core server tests benchmarks scripts
	@cd web && npx biome check --write src tests

types:
	@cd server && ../.venv/bin/python manage.py spectacular --file schema.yaml
	@cd web && npm run --silent types

screenshots:
	@scripts/setup --dev
	@.venv/bin/python scripts/screenshots.py

step-docs:
	@.venv/bin/python scripts/step_docs.py

docs:
	@scripts/setup
	@.venv/bin/python scripts/docs.py

notebook:
	@scripts/setup --dev
	@.venv/bin/python scripts/notebook.py

mutants:
	@scripts/setup --dev
	@.venv/bin/python scripts/mutants.py --count $${COUNT:-200} --seed $${SEED:-1} --minutes $${MINUTES:-60}
