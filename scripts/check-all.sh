# SPDX-License-Identifier: GPL-3.0-or-later
# What ./check --all does beyond ./check.

fuzz_seconds=120  # all targets together
# Under the sanitizers run those tests that find what they are for: what reads bytes, lives in other programs, shares
# between threads, or is clicked. Truth and the whole demo are measured by the optimised build alone.
asan_tests=(recorder_test os_activity_test stack_unwinder_test recorder_files_test recorder_trouble_test hostile_host_test format_test fuzz_replay_test
    model_test critical_path_test wakers_test likely_enders_test explanation_test causes_test cause_places_test functions_test usual_test repairs_test advice_test summary_test
    growing_test scale_test odd_recordings_test scope_test waits_test events_test memory_figures_test coverage_test index_test merging_test cli_test session_test join_test relay_test panels_test strip_test work_test rows_test table_test app_test keys_app_test opening_test causes_app_test functions_app_test
    scale_app_test scope_app_test events_app_test looking_test source_test core_use_test notes_test merge_app_test lanes_app_test notes_app_test)
# The thread sanitizer does not see the locks inside Qt, so tests with a window are left to the other.
tsan_tests=(recorder_test os_activity_test recorder_files_test recorder_trouble_test growing_test critical_path_test usual_test
    repairs_test scale_test odd_recordings_test index_test explanation_test join_test relay_test)

sanitized_build() {  # sanitized_build PRESET TARGET…
    local preset=$1
    shift
    [ -f "build/$preset/build.ninja" ] || step "configure $preset" cmake --preset "$preset" \
        -DFUGATO_DEMO_FROM="$PWD/build/release/demo"
    echo "Building $preset…"
    step "build $preset" cmake --build "build/$preset" --target "$@"
}

check_sanitized() {  # check_sanitized PRESET TEST…
    local preset=$1 names
    shift
    sanitized_build "$preset" "$@"
    names=$(IFS='|'; echo "$*")
    local options="halt_on_error=1 die_after_fork=0 suppressions=$PWD/scripts/thread-sanitizer.supp"
    (cd "build/$preset" && TSAN_OPTIONS=$options \
        ctest --output-on-failure -j "$(nproc)" -R "^($names)\$")
}

check_fuzzers() {
    sanitized_build asan fuzzers
    local targets=(binary whole_way packed text unclosed kept archive symbols control line notes) target corpus running=()
    corpus=$(mktemp -d)
    trap "rm -rf '$corpus'" EXIT
    local each=$((fuzz_seconds * $(nproc) / ${#targets[@]}))
    echo "Fuzzing ${#targets[@]} targets, $each s each…"
    for target in "${targets[@]}"; do
        mkdir "$corpus/$target"
        cp "tests/fuzz/kept/$target/"* "$corpus/$target/"
        "build/asan/bin/fuzz_$target" -max_total_time="$each" -timeout=20 -rss_limit_mb=1500 -max_len=8000 \
            -artifact_prefix="$corpus/found-$target-" "$corpus/$target" > "$corpus/$target.log" 2>&1 &
        running+=($!)
        if [ "${#running[@]}" -ge "$(nproc)" ]; then
            wait "${running[0]}" || fuzzing_failed "$corpus"
            running=("${running[@]:1}")
        fi
    done
    for target in "${running[@]}"; do wait "$target" || fuzzing_failed "$corpus"; done
}

fuzzing_failed() {
    local found
    mkdir -p build/found
    for found in "$1"/found-*; do
        [ -e "$found" ] && cp "$found" build/found/ && echo "fugato: this input fails: build/found/${found##*/}" >&2
    done
    grep -hE 'ERROR|runtime error|SUMMARY|    #[0-9]+ ' "$1"/*.log | head -n 40 >&2
    exit 1
}

# Sources that the last commit or the work tree changed: their form, and what clang-tidy says of those that compile alone.
check_form() {
    local changed
    mapfile -t changed < <(
        { git diff --name-only --diff-filter=d HEAD; git diff --name-only --diff-filter=d HEAD~1 HEAD 2>/dev/null || true; } |
            grep -E '\.(cpp|hpp|h|c)$' | sort -u)
    [ ${#changed[@]} -eq 0 ] && return
    clang-format --dry-run --Werror "${changed[@]}"
    mapfile -t changed < <(printf '%s\n' "${changed[@]}" | grep -E '^(recorder|format|core)/.*\.cpp$' | head -n 12)
    [ ${#changed[@]} -eq 0 ] || clang-tidy -p build/release --quiet --extra-arg=-Wno-unknown-warning-option "${changed[@]}"
}
