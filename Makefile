# make demo | test | start | check | bench | screenshots
.PHONY: demo test start check build api bench screenshots fmt

demo:
	@ONCE="$(ONCE)" scripts/demo

test:
	@scripts/install-packages
	@scripts/build
	@scripts/test

start:
	@scripts/start $(ARGS)

build:
	@scripts/build

check:
	@scripts/npm-packages
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --quiet -- -D warnings
	cd console && npm run --silent check

api: build
	@target/debug/mostrad --openapi > console/src/api/openapi.json
	@cd console && npm run --silent types

fmt:
	cargo fmt --all

bench:
	@scripts/install-packages bench
	@scripts/build release
	@target/release/mostra-benches

screenshots:
	@scripts/install-packages pictures
	@scripts/screenshots
