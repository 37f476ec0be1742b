#!/usr/bin/env bash
# Changes one file of the library in every small way, one at a time, and lists the changes that no test notices.
#
#   fuzz/mutants.sh FILE TESTS [MORE…]    such as: fuzz/mutants.sh job/stages/seal.rs '--lib seal'
#                                                  fuzz/mutants.sh guard.rs '--test guard' --shard 1/4
#
# FILE lies below core/src; TESTS is what `cargo test` is given, the fewer the faster; MORE goes to cargo-mutants. What is listed may still be
# noticed by a test that was not run: give `--test job` for those alone, with --re and the function's name.
# It needs cargo-mutants (`cargo install cargo-mutants --locked`). A change takes ten to twenty seconds.
set -euo pipefail
cd "$(dirname "$0")/.."
file=${1:?the file to change, below core/src}
tests=${2:?the tests to run, such as "--lib seal"}
shift 2
export PROPTEST_CASES=${PROPTEST_CASES:-32}
# shellcheck disable=SC2086 # several words
exec cargo mutants --profile mutants --package pyrotyp-core --file "core/src/$file" --output "${TMPDIR:-/tmp}/mutants" --baseline skip --timeout 100 "$@" \
    -- $tests
