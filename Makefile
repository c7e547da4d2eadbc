# What to run: demo, test, bench, screenshots. Each sets up what it needs and repeats no work.
SHELL := /bin/bash
.SHELLFLAGS := -euo pipefail -c
.ONESHELL:
.DELETE_ON_ERROR:
MAKEFLAGS += --no-print-directory

# What the demo is built with: dev is quick to build, release is the program as it ships.
PROFILE ?= dev
VERAX := target/$(if $(filter dev,$(PROFILE)),debug,$(PROFILE))/verax
DEMO_DIR ?= .demo
CONSOLE_SOURCES := $(shell find console/src console/public -type f -not -name openapi.d.ts) \
	console/index.html console/report.html console/vite.config.ts console/vite.report.config.ts \
	console/svelte.config.js docs/openapi.json

# Cargo beside other targets: it divides the processors itself.
CARGO := env --unset=MAKEFLAGS --unset=MFLAGS cargo
# Runs one part of the test programs, all from the same build products.
test-part = $(CARGO) test --locked --workspace --tests --config 'target."cfg(all())".runner="setup/test-part $(1)"'

.PHONY: help demo quick-program build packages console typescript openapi check bench faults screenshots clean \
	test test-packages test-programs api-tester test-end-to-end test-servers test-rest test-documentation test-console

help: ## Show what can be made
	@grep -hE '^[a-z-]+:.*## ' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

demo: packages ## Start Verax with the ferry network's data; Ctrl-C stops it
	@if [ "$(PROFILE)" = dev ]; then
	  # This program reads its console from the folder, so both are built at the same time.
	  echo "building verax, about 270 crates, and its console, at the first time"
	  $(MAKE) --jobs 2 console quick-program
	else
	  $(MAKE) build PROFILE=$(PROFILE)
	fi
	exec $(VERAX) demo --data-dir $(DEMO_DIR) $(DEMO_FLAGS)

quick-program:
	@$(CARGO) build --locked --package verax

build: packages console ## Build the program as it ships, with its console
	@echo "building verax, about 270 crates at the first time, optimized"
	cargo build --profile $(or $(filter-out dev,$(PROFILE)),release) --locked --package verax

test: test-packages ## Run every test
	@# Everything at once, so that the program and all tests share one set of build products.
	echo "building verax and its tests, about 400 crates, the console and what else the tests need, at the first time"
	$(MAKE) --jobs 4 console typescript api-tester test-programs
	echo "running the tests; those that start everything take longest"
	$(MAKE) --jobs 5 test-end-to-end test-servers test-rest test-documentation test-console
	echo "running the tests that measure time, with nothing beside them"
	$(call test-part,alone)

test-programs:
	@$(CARGO) build --locked --workspace --all-targets

test-end-to-end test-servers test-rest:
	@$(call test-part,$(@:test-%=%))

test-documentation:
	@$(CARGO) test --locked --workspace --doc

test-console:
	@npm --prefix console test

check: packages console typescript ## Check formats, lints and types
	@cargo fmt --all --check
	setup/comment-width
	setup/import-circles
	cargo clippy --locked --workspace --all-targets -- --deny warnings
	RUSTDOCFLAGS="--deny warnings" cargo doc --locked --workspace --no-deps --quiet
	npm --prefix console run check

faults: test-packages console ## Stop and kill MariaDB and Verax 300 times under changing load
	cargo build --locked --package verax --package verax-e2e --all-targets
	VERAX_FAULTS=full cargo test --locked --package verax-e2e faults:: -- --nocapture --test-threads 1

bench: build ## Print the benchmark tables
	@cargo build --release --locked --package verax-bench
	target/release/verax-bench

screenshots: test-packages build ## Refresh docs/screenshots from the demo
	@setup/packages xvfb:xvfb-run xauth xterm imagemagick:import fonts-dejavu-core:/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf
	mkdir -p docs/screenshots
	VERAX_PROGRAM=$(CURDIR)/target/release/verax cargo run --locked --package verax-e2e --example screenshots -- $(CURDIR)/docs/screenshots

console: console/dist/index.html ## Build the console

console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	@npm --prefix console run build
	touch $@

typescript: clients/typescript/dist/src/index.js ## Build the TypeScript client

clients/typescript/dist/src/index.js: clients/typescript/node_modules/.package-lock.json docs/openapi.json \
	$(filter-out %/openapi.d.ts,$(wildcard clients/typescript/src/*.ts clients/typescript/test/*.ts))
	@npm --prefix clients/typescript run build --silent
	touch $@

clients/typescript/node_modules/.package-lock.json: clients/typescript/package.json clients/typescript/package-lock.json
	@npm --prefix clients/typescript ci --no-fund --no-audit

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	@command -v npm >/dev/null || $(MAKE) packages
	npm --prefix console ci --no-fund --no-audit
	touch $@

openapi: ## Write docs/openapi.json anew
	@VERAX_WRITE_OPENAPI=1 cargo test --locked --package verax-server written_description

packages: ## Install Debian's packages that building and running need
	@setup/packages mariadb-server nodejs:node npm gcc curl
	setup/toolchain

test-packages: packages ## Install Debian's packages that tests need
	@setup/packages chromium chromium-driver:chromedriver python3 python3-venv:/var/lib/dpkg/info/python3-venv.list

api-tester: target/api-tester/.installed ## Install what tests the API by its description

target/api-tester/.installed: setup/api-tester.txt
	@echo "installing what tests the API by its description"
	/usr/bin/python3 -m venv target/api-tester
	target/api-tester/bin/pip install --quiet --disable-pip-version-check --requirement setup/api-tester.txt
	touch $@

clean: ## Remove what was built and the demo's data
	@rm -rf target console/dist console/node_modules clients/typescript/dist \
		clients/typescript/node_modules $(DEMO_DIR)
