#!/usr/bin/env bash
# Changes one file of the library in every small way, one at a time, and lists the changes that no test notices.
#
#   fuzz/mutants.sh FILE [MORE…]    such as guard.rs or job/seal.rs, below core/src; MORE goes to cargo-mutants, such as --shard 1/4
#
# It needs cargo-mutants (`cargo install cargo-mutants --locked`). A change takes half a minute to two: a file takes an hour or more.
set -euo pipefail
cd "$(dirname "$0")/.."
file=${1:?the file to change, below core/src}
shift
exec cargo mutants --package pyrotyp-core --file "core/src/$file" --output "${TMPDIR:-/tmp}/mutants" --timeout 300 "$@" \
    -- --lib --test guard --test job
