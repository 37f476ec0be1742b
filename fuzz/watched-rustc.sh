#!/bin/sh
# Compiles the project's own code with what tells a fuzzer which way it went. A sanitizer is left out: only one module, which no target
# reaches, is unsafe.
# A build script runs while things are built, where no fuzzer is.
case " $* " in *" build_script_build "*) exec "$@" ;; esac
exec "$@" -Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 \
    -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table \
    -Cllvm-args=-sanitizer-coverage-trace-compares
