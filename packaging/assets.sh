#!/usr/bin/env bash
# Builds the program as it is handed out and, beside it in target/package, its man pages and completions, for `cargo deb`.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
cargo build --release --locked --package pyrotyp --no-default-features
rm -rf target/package
target/release/pyrotyp manual --into target/package --quiet
