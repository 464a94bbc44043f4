# make demo | test | start | check | bench | fuzz | soak | faults | mutants | screenshots
.PHONY: deb deb-test tarball demo test start check dependencies build api bench fuzz soak faults mutants screenshots fmt

demo:
	@ONCE="$(ONCE)" scripts/demo

test:
	@scripts/install-packages
	@scripts/build tests
	@scripts/test

start:
	@scripts/start $(ARGS)

build:
	@scripts/build

check:
	@scripts/install-packages
	@scripts/npm-packages
	@scripts/check

api: build
	@target/debug/mostrad --openapi > console/src/api/openapi.json
	@cd console && npm run --silent types

fmt:
	cargo fmt --all

bench:
	@scripts/install-packages bench
	@scripts/build release
	@target/release/mostra-benches; code=$$?; scripts/postgres stop target/test-house; exit $$code

# The Debian package, into target/deb.
deb:
	@scripts/deb

# An archive for other systems, with an install script, into target/deb.
tarball:
	@scripts/tarball

# The package installed, upgraded, removed and purged in a fresh Debian root under systemd.
deb-test:
	@scripts/test-package

# Licences, versions, sources and use of dependencies.
dependencies:
	@scripts/dependencies

# Each parser of foreign bytes for a minute (FUZZ_SECONDS), guided by coverage.
fuzz:
	@scripts/fuzz

# 200 devices, hostile ones and troubles for ten minutes (SOAK_SECONDS); prints its report.
soak:
	@scripts/install-packages
	@scripts/build release
	@target/release/mostra-benches soak; code=$$?; scripts/postgres stop target/test-house; exit $$code

# Faults in namespaces, with docs/faults.md as the report (FAULTS=N: the first N alone).
faults:
	@scripts/faults

# Small changes of the code that some test must notice (MUTANTS_PART).
mutants:
	@scripts/mutants

screenshots:
	@scripts/install-packages pictures
	@scripts/screenshots
