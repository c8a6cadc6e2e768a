/* SPDX-License-Identifier: MIT
 *
 * Fugato recorder: the C interface.
 *
 * Purpose   A program tells what it does (markers, frames, waits, locks, links, counters, points,
 *           states) and a background thread writes it to a .fugato file.
 * Threads   Every function may be called from any thread unless it says otherwise. A recorded
 *           thread writes into a buffer of its own: no lock and no system call after its first
 *           event and after the first use of each marker site.
 * Times     Ticks of the recorder's clock: the time-stamp counter where it is invariant, else
 *           nanoseconds of CLOCK_MONOTONIC, or whatever fug_options.now returns (nanoseconds).
 * Errors    Nothing here aborts, prints or throws. Calls before fug_start() and after fug_stop()
 *           do nothing. fug_status() tells what went wrong.
 * Strings   UTF-8; copied when first seen; null counts as empty.
 *
 * Example
 *     static fug_site simulate = FUG_SITE("Simulate", "physics", "one step of every boat");
 *     fug_begin(&simulate);  ...  fug_end();
 */
#ifndef FUGATO_FUGATO_H
#define FUGATO_FUGATO_H

#include <stddef.h>
#include <stdint.h>

#if defined(__x86_64__) || defined(__i386__)
#include <x86intrin.h>
#define FUG_HAS_TSC 1
#else
#define FUG_HAS_TSC 0
#endif

#ifdef __cplusplus
extern "C" {
#endif

/* ---- starting and stopping ------------------------------------------------------------------ */

typedef struct fug_options {
    const char* program;    /* name shown for the recording; null: empty                     */
    const char* build;      /* build number or revision; null: empty                         */
    uint32_t buffer_events; /* events each thread can hold unwritten; 0: 65 536              */
    uint64_t (*now)(void);  /* clock of the host's own, in nanoseconds; null: choose one      */
    int no_background;      /* 1: no thread is started; a full buffer is written by the thread
                               that filled it (for programs that run one thread at a time)    */
} fug_options;

/* Starts writing to `path` (created or replaced). `options` may be null. Returns 0, or an errno
 * value where the file cannot be created; the program then simply runs unrecorded. */
int fug_start(const char* path, const fug_options* options);

/* Writes what is left and the index, closes the file. Also called at exit. */
void fug_stop(void);

/* 1 while recording. */
int fug_recording(void);

/* What went wrong last ("" when nothing did). The pointer stays valid until the next call of
 * fug_start on any thread. */
const char* fug_status(void);

/* Events lost because a thread's buffer was full, in all lanes, since fug_start. */
uint64_t fug_lost(void);

/* A fact about the run ("quality" = "high"); kept with the recording. */
void fug_context(const char* key, const char* value);

/* ---- threads ---------------------------------------------------------------------------------- */

typedef enum fug_lane_kind { FUG_LANE_THREAD = 0, FUG_LANE_QUEUE = 1 } fug_lane_kind;

/* Names the calling thread. A thread that plays a device queue says so with FUG_LANE_QUEUE. */
void fug_name_thread(const char* name, const char* role, fug_lane_kind kind);

/* ---- markers ---------------------------------------------------------------------------------- */

/* One place in the source that opens markers. Lives as long as the program (static storage). */
typedef struct fug_site {
    uint64_t word; /* 0 until first used; owned by the recorder */
    const char* name;
    const char* category;
    const char* description;
    const char* file;
    uint32_t line;
    uint32_t reserved;
    uint64_t longest_ns; /* expected longest duration; 0: not told */
} fug_site;

#define FUG_SITE(name, category, description) \
    { 0, (name), (category), (description), __FILE__, __LINE__, 0, 0 }

/* ---- everything else that can be told ---------------------------------------------------------- */

typedef enum fug_wait_kind {
    FUG_WAIT_OTHER = 0,
    FUG_WAIT_LOCK = 1,
    FUG_WAIT_CONDITION = 2,
    FUG_WAIT_JOB = 3,
    FUG_WAIT_GPU = 4,
    FUG_WAIT_FILE = 5,
    FUG_WAIT_SLEEP = 6,
    FUG_WAIT_PACING = 7 /* waiting for the next tick on purpose: idle, never a cause */
} fug_wait_kind;

typedef enum fug_severity { FUG_DEBUG = 0, FUG_INFO = 1, FUG_WARNING = 2, FUG_ERROR = 3 } fug_severity;

/* Each returns an id; the same arguments may be registered again and give another id. */
uint32_t fug_series(const char* name, uint64_t deadline_ns);
uint32_t fug_object(const char* name);
uint32_t fug_counter(const char* name, const char* unit, const double* threshold);
uint32_t fug_state(const char* name);

/* Frames of a series, begun and ended on one thread. deadline_ns 0: the series' own deadline. */
void fug_frame_begin(uint32_t series, uint64_t deadline_ns);
void fug_frame_end(uint32_t series);

void fug_count(uint32_t counter, double value);
void fug_point(fug_severity severity, const char* text);
void fug_state_set(uint32_t state, const char* value);

/* A wait is a marker of `site` during which the thread is blocked on `object`. The end may name
 * the link whose fug_link_out ended the wait; 0 where it is not known. */
void fug_wait_begin(fug_site* site, uint32_t object, fug_wait_kind kind);
void fug_wait_end(uint64_t link);

/* The calling thread has got, has given back, the lock `object`. */
void fug_taken(uint32_t object);
void fug_given(uint32_t object);

/* A link goes from one fug_link_out to any number of fug_link_in with the same id. */
uint64_t fug_link_new(void);
void fug_link_out(uint64_t link);
void fug_link_in(uint64_t link);

/* ---- the path that must be quick --------------------------------------------------------------- */

typedef struct fug_slot {
    uint64_t ticks;
    uint64_t word; /* kind, extra slots, small value, id: see fugato_layout.hpp */
} fug_slot;

/* A thread's buffer: a ring with one writer (the thread) and one reader (the background thread).
 * Invariants: tail <= head <= tail + capacity. Only the thread writes head and the limits; only
 * the reader writes tail. Slots in [tail, head) are published and not touched by the thread. */
typedef struct fug_buffer {
    fug_slot* ring;
    uint64_t mask;
    uint64_t head;
    uint64_t begin_limit; /* at or above: a begin takes the slow path */
    uint64_t end_limit;   /* at or above: an end takes the slow path; keeps room for ends */
} fug_buffer;

extern __thread fug_buffer* fug_this_buffer __attribute__((tls_model("initial-exec")));
extern int fug_uses_tsc;

uint64_t fug_now_slow(void);
void fug_begin_slow(fug_site* site);
void fug_end_slow(void);

/* The recorder's clock, in ticks. */
static inline uint64_t fug_now(void) {
#if FUG_HAS_TSC
    if (__builtin_expect(fug_uses_tsc, 1)) return __rdtsc();
#endif
    return fug_now_slow();
}

static inline void fug_begin(fug_site* site) {
    fug_buffer* buffer = fug_this_buffer;
    const uint64_t head = buffer->head;
    const uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    if (__builtin_expect(head >= buffer->begin_limit || word == 0, 0)) {
        fug_begin_slow(site);
        return;
    }
    fug_slot* slot = &buffer->ring[head & buffer->mask];
    slot->ticks = fug_now();
    slot->word = word;
    __atomic_store_n(&buffer->head, head + 1, __ATOMIC_RELEASE);
}

#define FUG_WORD_END 2u /* the word of a marker's end: its kind, nothing else */

static inline void fug_end(void) {
    fug_buffer* buffer = fug_this_buffer;
    const uint64_t head = buffer->head;
    if (__builtin_expect(head >= buffer->end_limit, 0)) {
        fug_end_slow();
        return;
    }
    fug_slot* slot = &buffer->ring[head & buffer->mask];
    slot->ticks = fug_now();
    slot->word = FUG_WORD_END;
    __atomic_store_n(&buffer->head, head + 1, __ATOMIC_RELEASE);
}

#ifdef __cplusplus
}
#endif
#endif
