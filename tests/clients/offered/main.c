/* SPDX-License-Identifier: GPL-3.0-or-later
 *
 * A program that offers itself, for tests of joining: a hundred frames a second on a thread that has its name before
 * anything is recorded. Each hundredth frame takes 60 ms instead of 2. SIGTERM ends it, SIGUSR1 tells an error and
 * SIGUSR2 asks for a moment.
 *   offered NAME [own RECORDING|moments RECORDING|quiet]
 * It writes "ready", and at its end how many frames there were. */
#include <fugato/fugato.h>
#include <pthread.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdio.h>
#include <string.h>
#include <time.h>

static atomic_int over, failed, asked;
static void end(int number) {
    (void)number;
    over = 1;
}
static void fail(int number) {
    (void)number;
    failed = 1;
}
static void ask(int number) {
    (void)number;
    asked = 1;
}

static void rest(long ms) {
    const struct timespec time = {ms / 1000, ms % 1000 * 1000000};
    nanosleep(&time, NULL);
}

static void* help(void* unused) {
    fug_name_thread("helper", "helper", FUG_LANE_THREAD);
    while (!over) {
        FUG_SCOPE("Help", "helping", "what the helper does");
        rest(5);
    }
    return unused;
}

int main(int argc, char** argv) {
    const char* const way = argc > 2 ? argv[2] : "";
    fug_options options = {0};
    fug_moments moments = {0};
    options.program = argc > 1 ? argv[1] : "offered";
    options.build = "7";
    signal(SIGTERM, end);
    signal(SIGUSR1, fail);
    signal(SIGUSR2, ask);
    fug_name_thread("game", "game", FUG_LANE_THREAD);
    const uint32_t frames = fug_series("frames", 16666667);
    const int error = strcmp(way, "quiet") == 0 ? 0 : fug_offer(&options);
    if (error) return fprintf(stderr, "not offered: %s\n", strerror(error)), 1;
    if (strcmp(way, "moments") == 0) {
        moments.before_s = 1;
        moments.after_s = 0.2;
        moments.pause_s = 0.1;
        moments.most_saves = 3;
        moments.errors = 1;
        options.moments = &moments;
    }
    if (argc > 3 && fug_start(argv[3], &options) != 0) return fprintf(stderr, "%s\n", fug_status()), 1;
    pthread_t helper;
    pthread_create(&helper, NULL, help, NULL);
    printf("ready\n");
    fflush(stdout);
    unsigned long count = 0;
    for (; !over; ++count) {
        fug_frame_tick(frames, 0);
        {
            FUG_SCOPE("Step", "game", "one step");
            rest(count % 100 == 99 ? 60 : 2);
        }
        {
            FUG_SCOPE("Draw", "drawing", "one picture");
            rest(6);
        }
        if (failed) fug_point(FUG_ERROR, "the tide is out");
        if (asked) fug_save_moment("asked by signal");
        failed = asked = 0;
    }
    pthread_join(helper, NULL);
    fug_stop();
    printf("%lu frames\n", count);
    return 0;
}
