/* SPDX-License-Identifier: MIT
 *
 * Fugato recorder: the C interface.
 *
 * Purpose   A program tells what it does and a background thread writes it to a .fugato file.
 *           docs/recording-your-program.md teaches it; docs/recorder-c.md lists it.
 * Threads   Every function may be called from any thread unless it says otherwise. A recorded
 *           thread writes into a buffer of its own: after its first event no lock, no allocation and
 *           no system call, except in the functions marked [set-up].
 * Times     Ticks of the recorder's clock: the time-stamp counter where it is invariant, else
 *           nanoseconds of CLOCK_MONOTONIC, or whatever fug_options.now returns (nanoseconds).
 *           fug_at() gives events another time than now.
 * Errors    Nothing here aborts, prints or throws. Calls before fug_start() and after fug_stop()
 *           do nothing. fug_status() tells what went wrong.
 * Strings   UTF-8 (anything else is mended when read); copied when first seen; null counts as empty;
 *           a name is cut at 1 000 bytes, a text at 3 200.
 * Signals   Events may be told in a signal handler, but for a thread's first. One that interrupts another
 *           event of the same thread may be left out (and is counted), and in rare cases spoil that event,
 *           which readers repair. No handler ever runs on a thread of the recorder's, nor during a [set-up]
 *           function; the limit on the size of files counts as a full disk and never sends SIGXFSZ.
 * Leaving   With FUGATO_OFF defined everything here is empty and leaves no code; the library need
 * it out    not be linked.
 * Stable    Structures and functions here only ever grow at their end; see docs/recorder-c.md.
 *
 * Example
 *     static fug_site simulate = FUG_SITE("Simulate", "physics", "one step of every boat");
 *     int began = fug_begin(&simulate);  ...  fug_end(began);
 */
#ifndef FUGATO_FUGATO_H
#define FUGATO_FUGATO_H

#include <stddef.h>
#include <stdint.h>

#if (defined(__x86_64__) || defined(__i386__)) && !defined(FUGATO_OFF)
#include <x86intrin.h>
#define FUG_HAS_TSC 1
#else
#define FUG_HAS_TSC 0
#endif

#define FUG_ABI 1u

/* FUG_CALL(result, name, parameters, value without the recorder) declares a function. */
#ifdef FUGATO_OFF
#ifdef __cplusplus
#define FUG_CONSTEXPR constexpr
#else
#define FUG_CONSTEXPR
#endif
#define FUG_CALL(result, name, parameters, value) \
    static inline FUG_CONSTEXPR result name parameters { return value; }
#pragma GCC diagnostic push
#pragma GCC diagnostic ignored "-Wunused-parameter"
#pragma GCC diagnostic ignored "-Wunused-function"
#else
#define FUG_CONSTEXPR
#define FUG_CALL(result, name, parameters, value) result name parameters;
#endif

#ifdef __cplusplus
extern "C" {
#endif

/* ---- starting and stopping ------------------------------------------------------------------ */

/* What to do where the recording can no longer be written (full disk, file removed, no permission):
 * stop recording, or go on in memory for fug_save(). The program itself never notices. */
typedef enum fug_on_failure { FUG_STOP_RECORDING = 0, FUG_GO_ON_IN_MEMORY = 1 } fug_on_failure;

/* What to do where a recording is at the path already: keep it and put a number into the name of the new
 * one (run-2.fugato; fug_path() tells), replace it, or refuse. What is no recording is never replaced. */
typedef enum fug_existing { FUG_KEEP_EXISTING = 0, FUG_REPLACE_EXISTING = 1, FUG_REFUSE_EXISTING = 2 } fug_existing;

/* What to ask the operating system for; each is left out, with the reason in the recording, where
 * it is not permitted. */
enum {
    FUG_OS_SWITCHES = 1, /* which thread ran on which core when; with permission, other programs too */
    FUG_OS_SAMPLES = 2,  /* where threads were, by call stack, every sample_us of their running time */
    FUG_OS_LOAD = 4,     /* processor use per core and by others, frequency, memory, disk, network, faults */
    FUG_OS_BLOCKING = 8, /* where threads were, by call stack, whenever they blocked; with FUG_OS_SWITCHES only, and
                         only where permitted */
    /* Samples by copies of the stack instead of frame pointers, so that they are whole also in code without these;
     * x86-64 only. Each costs its thread about 8 us, without it about 4. */
    FUG_OS_STACK_COPIES = 16
};

typedef struct fug_options {
    size_t size;            /* sizeof(fug_options); 0 counts as this version's                */
    const char* program;    /* name shown for the recording; null: empty                     */
    const char* build;      /* build number or revision; null: empty                         */
    uint32_t buffer_events; /* events each thread can hold unwritten; 0: 65 536              */
    uint64_t (*now)(void);  /* clock of the host's own, in nanoseconds; null: choose one      */
    int no_background;      /* 1: no thread is started; a full buffer is written by the thread
                               that filled it (for programs that run one thread at a time)    */
    uint64_t memory_bytes;  /* all buffers together, and what is kept in memory after a failure:
                               each takes no more than this; 0: 256 MB                        */
    fug_on_failure on_failure;
    uint32_t os;        /* FUG_OS_… added together; 0: nothing                           */
    uint32_t sample_us; /* 0: 1 000                                                      */
    /* Where buffers live while recording, so that a kill loses nothing; null: /dev/shm, else the
     * recording's own folder; "": in plain memory, where a kill loses the last moment. */
    const char* buffer_folder;
    fug_existing existing;
    /* An open, empty, ordinary file to record into instead of a path, which another process may have handed
     * over; it is opened anew and stays the caller's to close. 0: none. */
    int descriptor;
    /* Not null: only the last seconds are held, in memory, and saved around what happens to a file of `path` each,
     * which may hold patterns (%n: the number of the save). With no_background at fug_stop() only. */
    const struct fug_moments* moments;
} fug_options;

/* What is held and when it is saved; the saved recording tells why. What is 0 is as told, or not looked at. */
typedef struct fug_moments {
    size_t size;          /* sizeof(fug_moments); 0 counts as this version's                  */
    double before_s;      /* held before what happens; 0: 20                                  */
    double after_s;       /* and recorded after it; 0: 2                                      */
    double pause_s;       /* at least, from a save to the next thing that is saved; 0: 10     */
    uint32_t most_saves;  /* in all; 0: 20                                                    */
    double frame_ms;      /* a frame takes longer                                             */
    double times_usual;   /* a frame takes so many times the median of those before it        */
    uint32_t late_frames; /* so many frames over their deadline (without one: 1/60 s) ...     */
    uint32_t out_of;      /* ... among so many, at most 1 000                                 */
    int errors;           /* 1: a point of severity FUG_ERROR                                 */
} fug_moments;

/* [set-up] Starts writing to `path`, which may hold patterns: %p the process, %t the local time, %n the
 * first number that is not taken, %% a percent sign. `options` may be null. Returns 0, or an errno
 * value where the file cannot be created: EBUSY where another program is recording to it, EEXIST
 * where it must not be replaced, ENOSPC or EFBIG where there is less than a megabyte of room, ENOTSUP
 * for what is no ordinary file. The program then simply runs unrecorded, or in memory where
 * on_failure says so (and 0 is returned). With no path (null or "") and FUG_GO_ON_IN_MEMORY it begins in memory, for
 * fug_write_to() or fug_save(). A program that was started to be recorded (see docs/recording-your-program.md) is
 * recorded already: then this adds program and build, and fug_stop() does nothing. */
FUG_CALL(int, fug_start, (const char* path, const fug_options* options), 0)

/* [set-up] Writes what is left and the index, closes the file. Also called at exit. */
FUG_CALL(void, fug_stop, (void), )

/* [set-up] Offers the program to be recorded by its user: it is listed by fugato and `fugato-cli programs`, and can be
 * joined, left and joined again (docs/control-protocol.md) until it ends. Nothing is recorded meanwhile, and a thread
 * of its own waits. Of the options those hold that say how, not where to. With FUGATO_OFFER in its environment a
 * program is offered without this. Returns 0 or an errno value: EPERM where others may enter the folder of sockets. */
FUG_CALL(int, fug_offer, (const fug_options* options), 0)

/* [set-up] With fug_options.moments: saves the last seconds as if something had happened now. `why` may be null. */
FUG_CALL(void, fug_save_moment, (const char* why), )

/* [set-up] A recording that is held in memory is written to a file from now on, beginning with what is held; `path` as
 * for fug_start(). Returns 0 or an errno value, and then is held in memory as before; ENODATA where nothing is held. */
FUG_CALL(int, fug_write_to, (const char* path), 0)

/* [set-up] Writes what is kept in memory to a file, while recording or after fug_stop(); a recording that
 * is there already is replaced. Returns 0 or an errno value; ENODATA where nothing is kept. */
FUG_CALL(int, fug_save, (const char* path), 0)

/* 1 while recording. */
FUG_CALL(int, fug_recording, (void), 0)

/* [set-up] What went wrong last ("" when nothing did). The pointer stays valid for the program's
 * whole life. */
FUG_CALL(const char*, fug_status, (void), "")

/* [set-up] The file of the recording that is or was made last, with its patterns filled in; "" where there
 * is none. The pointer stays valid for the program's whole life. */
FUG_CALL(const char*, fug_path, (void), "")

/* Events lost because a buffer was full or could not be had, in all lanes, since fug_start. */
FUG_CALL(uint64_t, fug_lost, (void), 0)

/* [set-up] A fact about the run ("quality" = "high"); kept with the recording. */
FUG_CALL(void, fug_context, (const char* key, const char* value), )

/* [set-up] Which markers of a category are recorded from now on: those whose detail is at most
 * `level` (0 coarse, 1 fine, 2 finest); -1: none. At first all are. A null category means every
 * category. A marker that is left out costs one load and one branch. */
FUG_CALL(void, fug_detail, (const char* category, int level), )

/* ---- threads and other lanes ------------------------------------------------------------------ */

/* A core: only for hosts with a scheduler of their own, see fug_switch(). */
typedef enum fug_lane_kind { FUG_LANE_THREAD = 0, FUG_LANE_QUEUE = 1, FUG_LANE_CORE = 2 } fug_lane_kind;

/* [set-up] Names the calling thread, or the lane it has entered; also before anything is recorded. */
FUG_CALL(void, fug_name_thread, (const char* name, const char* role, fug_lane_kind kind), )

/* [set-up] The number by which a scheduler of the host's own knows the calling thread; also before anything is
 * recorded. Not 0. */
FUG_CALL(void, fug_thread_number, (uint32_t number), )
/* In the lane of a core: from now on this thread has it (0: none); `ready`: the one before would have gone on. For
 * hosts that run their threads on cores by a scheduler of their own, such as emulators; what the system's does is
 * recorded with FUG_OS_SWITCHES. */
FUG_CALL(void, fug_switch, (uint32_t thread, int ready), )
/* In the lane of a core: where that thread is, as addresses of the program's code, innermost first; of more than 64 the
 * innermost are kept. For hosts that look at their threads themselves; what the system sees is recorded with
 * FUG_OS_SAMPLES. Names are found later, where the program's files still are. */
FUG_CALL(void, fug_call_stack, (uint32_t thread, const void* const* addresses, size_t count), )

/* A lane apart from threads: for a fiber that moves between them, or a device queue. One thread at a
 * time may be in it; entering it sends everything that thread tells there, until it enters the lane
 * that it was in before. */
typedef struct fug_lane fug_lane;

/* [set-up] `clock` is 0 or comes from fug_clock(). Null where there is no memory. */
FUG_CALL(fug_lane*, fug_lane_make, (const char* name, const char* role, fug_lane_kind kind, uint32_t clock), NULL)
/* [set-up] Ends the lane and frees it; nobody may be in it. Null does nothing. */
FUG_CALL(void, fug_lane_end, (fug_lane * lane), )
/* Enters a lane (null: the thread's own); returns the one the thread was in (null: its own). A
 * function that enters must not be inlined into one that switches fibers. */
FUG_CALL(fug_lane*, fug_lane_enter, (fug_lane * lane), NULL)

/* [set-up] A clock of a device. Its ticks become times along the pairs told by fug_clock_sync(),
 * which should be repeated as clocks drift; ns_per_tick is the slope until two are known. */
FUG_CALL(uint32_t, fug_clock, (const char* name, double ns_per_tick), 0)
/* At one instant the device's clock said `device_ticks` and fug_now() said `host_ticks`. */
FUG_CALL(void, fug_clock_sync, (uint32_t clock, uint64_t device_ticks, uint64_t host_ticks), )

/* From now on this lane's events bear the time `ticks` (of the lane's clock), until fug_at_now(). In a
 * lane with a device's clock they go on bearing the last time given. */
FUG_CALL(void, fug_at, (uint64_t ticks), )
FUG_CALL(void, fug_at_now, (void), )

/* ---- markers ---------------------------------------------------------------------------------- */

/* One place in the source that opens markers. Lives as long as the code that uses it. */
typedef struct fug_site {
    uint64_t word; /* 0 until first used; owned by the recorder */
    const char* name;
    const char* category;
    const char* description;
    const char* file;
    uint32_t line;
    uint32_t detail;     /* 0 coarse, 1 fine, 2 finest: see fug_detail() */
    uint64_t longest_ns; /* expected longest duration; 0: not told */
    uint64_t reserved;
} fug_site;

#define FUG_SITE(name, category, description) FUG_SITE_WITH(name, category, description, 0, 0)
#define FUG_SITE_WITH(name, category, description, detail, longest_ns) \
    { 0, (name), (category), (description), __FILE__, __LINE__, (detail), (longest_ns), 0 }

/* [set-up] Makes a site known to this and every later recording of the process, also one that is never reached: then
 * it is told as a marker that did not occur. A site that is reached needs no declaration. */
FUG_CALL(void, fug_declare, (fug_site * site), )

/* The key of an argument. Lives as long as the code that uses it. */
typedef struct fug_key {
    uint64_t word; /* owned by the recorder */
    const char* name;
} fug_key;
#define FUG_KEY(name) \
    { 0, (name) }

/* Arguments of the innermost open marker. */
FUG_CALL(void, fug_integer, (fug_key * key, int64_t value), )
FUG_CALL(void, fug_real, (fug_key * key, double value), )
FUG_CALL(void, fug_text, (fug_key * key, const char* value), )
/* The innermost open marker turned out to change nothing: it need not have run. */
FUG_CALL(void, fug_changed_nothing, (void), )

/* ---- operations: begun here, ended elsewhere, overlapping freely -------------------------------- */

/* Returns the operation's number, for the other two; any thread may call them. */
FUG_CALL(uint64_t, fug_operation_begin, (fug_site * site), 0)
FUG_CALL(void, fug_operation_step, (uint64_t operation, fug_site* step), )
/* code 0: succeeded; else an error code, with a text that may be null. */
FUG_CALL(void, fug_operation_end, (uint64_t operation, int64_t code, const char* text), )

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

/* [set-up] Each returns an id; the same arguments may be told again and give another id. */
FUG_CALL(uint32_t, fug_series, (const char* name, uint64_t deadline_ns), 0)
FUG_CALL(uint32_t, fug_object, (const char* name), 0)
FUG_CALL(uint32_t, fug_counter, (const char* name, const char* unit, const double* threshold), 0)
FUG_CALL(uint32_t, fug_state, (const char* name), 0)
FUG_CALL(uint32_t, fug_pool, (const char* name), 0)

/* Frames of a series, begun and ended on one thread. deadline_ns 0: the series' own deadline. */
FUG_CALL(void, fug_frame_begin, (uint32_t series, uint64_t deadline_ns), )
FUG_CALL(void, fug_frame_end, (uint32_t series), )
/* The frame before ends, the next begins, with the deadline given. */
FUG_CALL(void, fug_frame_tick, (uint32_t series, uint64_t deadline_ns), )

FUG_CALL(void, fug_count, (uint32_t counter, double value), )
FUG_CALL(void, fug_point, (fug_severity severity, const char* text), )
FUG_CALL(void, fug_point_code, (fug_severity severity, int64_t code, const char* text), )
/* A person did something ("key W down", "left button"): told where the program takes it up, or with fug_at() at the
 * time the device tells. */
FUG_CALL(void, fug_input, (const char* text), )
FUG_CALL(void, fug_state_set, (uint32_t state, const char* value), )

/* A wait is a marker of `site` during which the thread is blocked on `object` (0: not told). The end may name
 * the link whose fug_link_out ended the wait; 0 where it is not known. */
FUG_CALL(int, fug_wait_begin, (fug_site * site, uint32_t object, fug_wait_kind kind), 0)
FUG_CALL(void, fug_wait_end, (int began, uint64_t link), )

/* The calling thread has got, has given back, the lock `object`. */
FUG_CALL(void, fug_taken, (uint32_t object), )
FUG_CALL(void, fug_given, (uint32_t object), )

/* A link goes from one fug_link_out to any number of fug_link_in with the same id. */
FUG_CALL(uint64_t, fug_link_new, (void), 0)
FUG_CALL(void, fug_link_out, (uint64_t link), )
FUG_CALL(void, fug_link_in, (uint64_t link), )

/* Memory charged to the innermost marker. `name` makes it a named resource; null or "": plain memory.
 * Pool 0 is the program's heap. */
FUG_CALL(void, fug_memory_taken, (uint32_t pool, const void* address, uint64_t bytes, const char* name), )
FUG_CALL(void, fug_memory_given, (uint32_t pool, const void* address), )

/* A picture of the screen: `pixels` has height rows of `stride` bytes, 4 bytes a pixel (red, green,
 * blue, anything). It is made smaller, to at most 160 by 100. One in a second or two is plenty. */
FUG_CALL(void, fug_picture, (uint32_t width, uint32_t height, const void* pixels, size_t stride), )

/* ---- the path that must be quick --------------------------------------------------------------- */

#ifdef FUGATO_OFF

FUG_CALL(uint64_t, fug_now, (void), 0)
FUG_CALL(int, fug_begin, (fug_site * site), 0)
FUG_CALL(void, fug_end, (int began), )

#else

typedef struct fug_slot {
    uint64_t ticks;
    uint64_t word; /* kind, further slots, text bytes, id: see fugato_layout.hpp */
} fug_slot;

/* A lane's buffer: a ring with one writer (the thread in the lane) and one reader (the background
 * thread). Invariants: tail <= head <= tail + capacity. Only the thread writes head and the limits;
 * only the reader writes tail. Slots in [tail, head) are published and not touched by the thread. */
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
int fug_begin_slow(fug_site* site);
void fug_end_slow(void);

/* The recorder's clock, in ticks. */
static inline uint64_t fug_now(void) {
#if FUG_HAS_TSC
    if (__builtin_expect(__atomic_load_n(&fug_uses_tsc, __ATOMIC_RELAXED), 1)) return __rdtsc();
#endif
    return fug_now_slow();
}

#define FUG_WORD_LEFT_OUT ((uint64_t)1 << 63) /* in a site's word: its category is switched off */
#define FUG_WORD_END 2u                       /* the word of a marker's end: its kind, nothing else */

/* Begins a marker; returns whether it was recorded, for fug_end(). */
static inline int fug_begin(fug_site* site) {
    const uint64_t word = __atomic_load_n(&site->word, __ATOMIC_RELAXED);
    if (__builtin_expect((int64_t)word < 0, 0)) return 0;
    fug_buffer* buffer = fug_this_buffer;
    const uint64_t head = buffer->head;
    if (__builtin_expect(head >= buffer->begin_limit || word == 0, 0)) return fug_begin_slow(site);
    fug_slot* slot = &buffer->ring[head & buffer->mask];
    slot->ticks = fug_now();
    slot->word = word;
    __atomic_store_n(&buffer->head, head + 1, __ATOMIC_RELEASE);
    return 1;
}

static inline void fug_end(int began) {
    if (!began) return;
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

#endif

/* A marker until the end of the block that this stands in, by whatever way it is left; for C, with GCC and Clang.
 *     void step(void) { FUG_SCOPE("Simulate", "physics", "one step of every boat"); ... } */
#ifdef FUGATO_OFF
#define FUG_SCOPE(name, category, description) struct fug_nothing
#else
#define FUG_JOINED_(a, b) a##b
#define FUG_JOINED(a, b) FUG_JOINED_(a, b)
#define FUG_SCOPE(name, category, description)                                                   \
    static fug_site FUG_JOINED(fug_site_, __LINE__) = FUG_SITE(name, category, description);     \
    const int FUG_JOINED(fug_began_, __LINE__) __attribute__((cleanup(fug_end_scope), unused)) = \
        fug_begin(&FUG_JOINED(fug_site_, __LINE__))
static inline void fug_end_scope(const int* began) { fug_end(*began); }
#endif

#ifdef __cplusplus
}
#endif
#ifdef FUGATO_OFF
#pragma GCC diagnostic pop
#endif
#endif
