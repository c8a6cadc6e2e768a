// SPDX-License-Identifier: MIT
#include "os_activity.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cinttypes>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include "call_stacks.hpp"
#include "run_context.hpp"

namespace fugato::recording {

using namespace layout;

namespace {

constexpr uint64_t kLoadEveryNs = 250'000'000;
constexpr size_t kPage = 4096;
constexpr size_t kRingPages = 512, kRingPagesForAnyone = 128;  // the kernel lets an ordinary user have no more
// Copied of a stack: for samples, and where a thread stops, which may be a hundred times as often.
constexpr uint32_t kCopiedBytes = 16 << 10, kCopiedWhereBlocking = 4 << 10;
constexpr uint32_t kCoreLane = 2, kThreadLane = 0;

int openEvent(perf_event_attr& attr, int process, int core) {
    return static_cast<int>(syscall(SYS_perf_event_open, &attr, process, core, -1, PERF_FLAG_FD_CLOEXEC));
}

perf_event_attr eventOf(uint64_t config) {
    perf_event_attr attr{};
    attr.size = sizeof attr;
    attr.type = PERF_TYPE_SOFTWARE;
    attr.config = config;
    attr.sample_type = PERF_SAMPLE_IDENTIFIER | PERF_SAMPLE_TID | PERF_SAMPLE_TIME | PERF_SAMPLE_CPU;
    attr.sample_id_all = 1;
    attr.use_clockid = 1;
    attr.clockid = CLOCK_MONOTONIC;
    attr.disabled = 0;
    return attr;
}

/// Either `copied` bytes of each stack, or, 0, the addresses that the system finds by frame pointers.
void askForStacks(perf_event_attr& attr, uint32_t copied) {
    attr.exclude_callchain_kernel = 1;
    if (!copied) {
        attr.sample_type |= PERF_SAMPLE_CALLCHAIN;
        attr.sample_max_stack = kMostStack;
        return;
    }
    attr.sample_type |= PERF_SAMPLE_REGS_USER | PERF_SAMPLE_STACK_USER;
    attr.sample_regs_user = StackUnwinder::wantedRegisters();
    attr.sample_stack_user = copied;
}

std::string whyNot(int error) {
    std::string why = std::string("not recorded: the system refuses (") + std::strerror(error) + ")";
    if (error == EACCES || error == EPERM)
        why += "; lower /proc/sys/kernel/perf_event_paranoid (now " +
               firstLineOf("/proc/sys/kernel/perf_event_paranoid") + ") or give the program CAP_PERFMON";
    return why;
}

template <class Visit>
void forEachThread(Visit&& visit) {
    DIR* dir = opendir("/proc/self/task");
    if (!dir) return;
    while (const dirent* entry = readdir(dir))
        if (const int thread = std::atoi(entry->d_name)) visit(thread);
    closedir(dir);
}

/// The numbers on the line of `path` that begins with `key`, or on its first where key is empty.
std::vector<uint64_t> numbersOf(const char* path, const char* key = "") {
    std::vector<uint64_t> numbers;
    std::FILE* file = std::fopen(path, "re");
    if (!file) return numbers;
    char line[1024];
    while (std::fgets(line, sizeof line, file)) {
        if (std::strncmp(line, key, std::strlen(key)) != 0) continue;
        for (const char* at = line + std::strlen(key); *at;) {
            char* end = nullptr;
            const uint64_t value = std::strtoull(at, &end, 10);
            if (end == at) {
                ++at;
                continue;
            }
            numbers.push_back(value);
            at = end;
        }
        break;
    }
    std::fclose(file);
    return numbers;
}

/// By its line in /proc/PID/stat, where the seventh field after the name in parentheses holds flags.
bool isOfTheSystem(const std::string& stat) {
    constexpr unsigned kKernelThread = 0x00200000;
    unsigned flags = 0;
    const size_t name = stat.rfind(')');
    return name != std::string::npos &&
           std::sscanf(stat.c_str() + name + 1, " %*c %*d %*d %*d %*d %*d %u", &flags) == 1 && (flags & kKernelThread);
}

uint64_t numberAt(const std::vector<uint64_t>& numbers, size_t i) { return i < numbers.size() ? numbers[i] : 0; }

}  // namespace

OsActivity::~OsActivity() {
    for (const int fd : descriptors_) ::close(fd);
    for (Core& core : cores_)
        if (core.ring) munmap(core.ring, core.ringBytes + kPage);
}

void OsActivity::leaveFiles() {
    for (const int fd : descriptors_) ::close(fd);
    descriptors_.clear();
}

void OsActivity::start(Recorder& r, uint32_t wanted, uint32_t sampleUs) {
    const bool copies = (wanted & FUG_OS_STACK_COPIES) && StackUnwinder::isPossible();
    const long count = sysconf(_SC_NPROCESSORS_CONF);
    for (int i = 0; i < count; ++i) {
        Core core;
        core.number = i;
        cores_.push_back(core);
    }
    if (wanted & FUG_OS_SWITCHES) {
        startSwitches(r);
        startWakeUps(r);
    }
    if (wanted & FUG_OS_SAMPLES) startSamples(r, sampleUs, copies);
    if (wanted & FUG_OS_BLOCKING) startBlocking(r);
    if (wanted & FUG_OS_LOAD) startLoad(r);
    for (Core& core : cores_) {
        if (!core.ring) continue;
        const std::string name = "core " + std::to_string(core.number);
        core.lane =
            makeOwnLane(r, name.c_str(), "core", kCoreLane, static_cast<uint64_t>(core.number), kNanosecondClock);
    }
}

/// Opens one event on a core; all events of a core share the ring of the first.
int OsActivity::openOnCore(perf_event_attr& attr, int process, Core& core, const Event& event) {
    const int fd = openEvent(attr, process, core.number);
    if (fd < 0) return errno;
    descriptors_.push_back(fd);
    uint64_t id = 0;
    if (ioctl(fd, PERF_EVENT_IOC_ID, &id) == 0) events_[id] = event;
    if (core.ring) {
        if (ioctl(fd, PERF_EVENT_IOC_SET_OUTPUT, core.leader) == 0) return 0;
    } else {
        for (const size_t pages : {kRingPages, kRingPagesForAnyone}) {
            const size_t bytes = pages * kPage;
            void* at = mmap(nullptr, bytes + kPage, PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
            if (at != MAP_FAILED) {
                core.ring = static_cast<perf_event_mmap_page*>(at);
                core.ringBytes = bytes;
                core.leader = fd;
                return 0;
            }
        }
    }
    const int error = errno;
    ::close(fd);
    descriptors_.pop_back();
    return error;
}

void OsActivity::startSwitches(Recorder& r) {
    perf_event_attr attr = eventOf(PERF_COUNT_SW_DUMMY);
    attr.context_switch = 1;
    attr.task = 1;  // that a thread has ended
    attr.comm = 1;  // what it is called: one that has ended already cannot be asked
    int error = 0;
    bool all = true;
    for (Core& core : cores_) {  // everything on each core, other programs too
        const int failed = openOnCore(attr, -1, core, {Event::Of::Switches, false});
        if (failed == ENODEV) continue;  // a core that is switched off
        all = all && !failed;
        error = failed ? failed : error;
    }
    if (all) return addContext(r, "os switches", "all programs");
    attr.inherit = 1;
    attr.exclude_kernel = 1;  // asks for no more than an ordinary user may have
    bool any = false;
    for (Core& core : cores_)
        forEachThread([&](int thread) { any |= openOnCore(attr, thread, core, {Event::Of::Switches, false}) == 0; });
    addContext(r, "os switches", any ? "this program only; others: " + whyNot(error) : whyNot(error));
}

/// Who wakes whom, which the system tells as an event of its tracing files.
void OsActivity::startWakeUps(Recorder& r) {
    std::string fields = "/sys/kernel/tracing/events/sched/sched_waking/";
    if (access(fields.c_str(), F_OK) != 0) fields = "/sys/kernel/debug/tracing/events/sched/sched_waking/";
    const std::string number = firstLineOf((fields + "id").c_str());
    wokenAt_ = 0;
    if (std::FILE* file = std::fopen((fields + "format").c_str(), "re")) {
        char line[256];
        unsigned at = 0;
        while (std::fgets(line, sizeof line, file))
            if (std::sscanf(line, " field:pid_t pid; offset:%u;", &at) == 1) wokenAt_ = at;
        std::fclose(file);
    }
    if (number.empty() || !wokenAt_)
        return addContext(r, "os wake-ups",
                          "not recorded: " + fields +
                              " cannot be read; as root: mount -t tracefs none "
                              "/sys/kernel/tracing, and run the program with permission to read it");
    perf_event_attr attr = eventOf(std::strtoull(number.c_str(), nullptr, 10));
    attr.type = PERF_TYPE_TRACEPOINT;
    attr.sample_period = 1;
    attr.sample_type |= PERF_SAMPLE_RAW;
    int error = 0;
    for (Core& core : cores_) {
        const int failed = openOnCore(attr, -1, core, {Event::Of::WakeUps, false});
        if (failed != ENODEV) error = failed ? failed : error;
    }
    addContext(r, "os wake-ups", error ? whyNot(error) : "all programs");
}

/// Opens one event for each thread of the program, and those that they will make. 0, or an errno value where no thread
/// has it.
int OsActivity::openForThreads(perf_event_attr& attr, const Event& event) {
    attr.inherit = 1;
    int error = 0;
    bool any = false;
    for (Core& core : cores_)
        forEachThread([&](int thread) {
            const int failed = openOnCore(attr, thread, core, event);
            any |= !failed;
            error = failed && failed != ENODEV ? failed : error;
        });
    return any ? 0 : error ? error : ENODEV;
}

void OsActivity::startSamples(Recorder& r, uint32_t sampleUs, bool copies) {
    perf_event_attr attr = eventOf(PERF_COUNT_SW_CPU_CLOCK);
    attr.sample_period = uint64_t{sampleUs} * 1000;
    attr.exclude_hv = 1;
    askForStacks(attr, copies ? kCopiedBytes : 0);
    const Event event{Event::Of::Samples, copies};
    int failed = openForThreads(attr, event);  // also while a thread is in the system
    const bool system = !failed;
    attr.exclude_kernel = 1;  // else what an ordinary user may have
    if (failed) failed = openForThreads(attr, event);
    if (!failed) r.tellsStacks.store(true, std::memory_order_relaxed);
    addContext(r, "os samples",
               failed
                   ? whyNot(failed)
                   : "every " + std::to_string(sampleUs) + " us of running" + (system ? ", also in the system" : "") +
                         (copies ? ", by copies of the stack" : ", by frame pointers"));
}

/// Where threads were when they stopped; which of them blocked is told by the switch that follows.
void OsActivity::startBlocking(Recorder& r) {
    const auto switches = std::any_of(events_.begin(), events_.end(),
                                      [](const auto& event) { return event.second.of == Event::Of::Switches; });
    if (!switches) return addContext(r, "os blocking", "not recorded: it needs switches (FUG_OS_SWITCHES)");
    // By frame pointers the function would be missing that called the C library, which has none.
    perf_event_attr attr = eventOf(PERF_COUNT_SW_CONTEXT_SWITCHES);
    attr.sample_period = 1;
    const bool copies = StackUnwinder::isPossible();
    askForStacks(attr, copies ? kCopiedWhereBlocking : 0);
    const int failed = openForThreads(attr, {Event::Of::Blocking, copies});
    if (!failed) r.tellsStacks.store(true, std::memory_order_relaxed);
    addContext(r, "os blocking", failed ? whyNot(failed) : "call stacks where threads block");
}

void OsActivity::poll(Recorder& r, uint64_t now, bool last) {
    unwinder_.beginPolling();
    for (Core& core : cores_)
        if (core.ring) readCore(r, core, now);
    if (load_ && (last || now - lastLoadNs_ >= kLoadEveryNs)) readLoad(r, now);
}

void OsActivity::readCore(Recorder& r, Core& core, uint64_t now) {
    const uint64_t bytes = core.ringBytes;
    const char* data = reinterpret_cast<const char*>(core.ring) + kPage;
    const uint64_t head = __atomic_load_n(&core.ring->data_head, __ATOMIC_ACQUIRE);
    uint64_t tail = core.ring->data_tail;
    std::vector<char> record;
    const auto copy = [&](uint64_t from, char* to, size_t count) {
        for (size_t done = 0; done < count;) {
            const size_t at = (from + done) % bytes, part = std::min<size_t>(count - done, bytes - at);
            std::memcpy(to + done, data + at, part);
            done += part;
        }
    };
    while (head - tail >= sizeof(perf_event_header)) {
        perf_event_header header;
        copy(tail, reinterpret_cast<char*>(&header), sizeof header);
        if (header.size < sizeof header || header.size > head - tail) break;
        record.resize(header.size - sizeof header);
        copy(tail + sizeof header, record.data(), record.size());
        take(r, core, header, record, now);
        tail += header.size;
    }
    __atomic_store_n(&core.ring->data_tail, tail, __ATOMIC_RELEASE);
}

void OsActivity::take(Recorder& r, Core& core, const perf_event_header& header, const std::vector<char>& record,
                      uint64_t now) {
    struct Common {  // at the end of each record that is no sample, before the event's id; in a sample after it
        uint32_t process, thread;
        uint64_t time;
        uint32_t core, reserved;
    } tail;
    uint64_t event = 0;
    if (record.size() < sizeof tail + sizeof event) return;
    const bool sample = header.type == PERF_RECORD_SAMPLE;
    const char* const end = record.data() + record.size();
    if (sample) std::memcpy(&event, record.data(), sizeof event);
    std::memcpy(&tail, sample ? record.data() + sizeof event : end - sizeof event - sizeof tail, sizeof tail);
    const uint64_t time = std::max(tail.time, core.lastTime);
    if (time < r.originNs) return;
    core.lastTime = time;
    const uint64_t ticks = time - r.originNs;
    const auto add = [&](Kind kind, uint32_t id, uint64_t a, std::string_view text = {}) FUGATO_NEEDS(r.outputMutex) {
        addEvent(r, *core.lane, {ticks, kind, id, a, 0, text}, now);
    };
    const bool out = header.misc & PERF_RECORD_MISC_SWITCH_OUT,
               ready = header.misc & PERF_RECORD_MISC_SWITCH_OUT_PREEMPT;
    switch (header.type) {
        case PERF_RECORD_SWITCH_CPU_WIDE: {
            // One record of whom the core was taken from and one of who got it, but now and then (after
            // idling) only the second.
            uint32_t other[2];  // process, thread
            std::memcpy(other, record.data(), sizeof other);
            nameThread(r, tail.thread, tail.process);
            nameThread(r, other[1], other[0]);
            const uint32_t next = out ? other[1] : tail.thread;
            if (core.running == next) break;
            core.running = next;
            if (out) addStop(r, core, ticks, tail.thread, ready, now);
            add(Kind::Switch, next, out && ready);
            break;
        }
        case PERF_RECORD_SWITCH:
            nameThread(r, tail.thread, tail.process);
            if (out) addStop(r, core, ticks, tail.thread, ready, now);
            add(Kind::Switch, out ? kUnknownThread : tail.thread, out && ready);
            break;
        case PERF_RECORD_COMM: {
            uint32_t ids[2];  // process, thread
            if (record.size() < sizeof ids) break;
            std::memcpy(ids, record.data(), sizeof ids);
            const char* const name = record.data() + sizeof ids;
            renameThread(r, ids[1], ids[0], {name, strnlen(name, record.size() - sizeof ids)});
            break;
        }
        case PERF_RECORD_EXIT: {
            uint32_t ids[4];  // process, its parent, thread, its parent
            if (record.size() < sizeof ids) break;
            std::memcpy(ids, record.data(), sizeof ids);
            if (core.running == ids[2]) core.running = kUnknownThread;  // the switch that follows names it no longer
            add(Kind::ThreadEnd, ids[2], 0);
            break;
        }
        case PERF_RECORD_LOST: {
            uint64_t lost = 0;
            std::memcpy(&lost, record.data() + 8, sizeof lost);
            add(Kind::Lost, 0, lost);
            break;
        }
        case PERF_RECORD_SAMPLE: {
            const auto of = events_.find(event);
            if (of == events_.end()) break;
            const std::string_view rest{record.data() + sizeof event + sizeof tail,
                                        record.size() - sizeof event - sizeof tail};
            takeSample(r, core, of->second, {ticks, tail.process, tail.thread, rest}, now);
            break;
        }
        default: break;
    }
}

void OsActivity::takeSample(Recorder& r, Core& core, const Event& event, const Sample& sample, uint64_t now) {
    switch (event.of) {
        case Event::Of::WakeUps: takeWakeUp(r, core, sample.ticks, sample.thread, sample.fields, now); break;
        case Event::Of::Samples: {
            nameThread(r, sample.thread, sample.process);
            const std::string stack = stackOf(event.copies, sample.fields);
            addEvent(r, *core.lane, {sample.ticks, Kind::Sample, sample.thread, 0, 0, stack}, now);
            break;
        }
        case Event::Of::Blocking: core.stop = {sample.thread, stackOf(event.copies, sample.fields)}; break;
        case Event::Of::Switches: break;
    }
}

/// Where a thread blocks that has just left its core; at the very time of the switch.
void OsActivity::addStop(Recorder& r, Core& core, uint64_t ticks, uint32_t thread, bool ready, uint64_t now) {
    const bool blocks = !ready && core.stop.thread == thread && !core.stop.stack.empty();
    const bool own = thread == r.backgroundId.load(std::memory_order_relaxed);  // it blocks all the time
    if (blocks && !own) addEvent(r, *core.lane, {ticks, Kind::Sample, thread, 1, 0, core.stop.stack}, now);
    core.stop.thread = 0;
}

/// The addresses of a call stack as an event holds them, from what the system told.
std::string OsActivity::stackOf(bool copied, std::string_view told) {
    const auto number = [&](uint64_t& value) {
        if (told.size() < sizeof value) return false;
        std::memcpy(&value, told.data(), sizeof value);
        told.remove_prefix(sizeof value);
        return true;
    };
    uint64_t addresses[kMostStack];
    size_t kept = 0;
    uint64_t count = 0;
    if (copied) {
        constexpr uint64_t kNoRegisters = PERF_SAMPLE_REGS_ABI_NONE, kWide = PERF_SAMPLE_REGS_ABI_64;
        uint64_t form = 0, bytes = 0, filled = 0;
        uint64_t registers[64];
        const auto wanted = static_cast<size_t>(__builtin_popcountll(StackUnwinder::wantedRegisters()));
        if (!number(form) || form == kNoRegisters || told.size() < wanted * 8) return {};
        std::memcpy(registers, told.data(), wanted * 8);
        told.remove_prefix(wanted * 8);
        if (form != kWide || !number(bytes) || !bytes || told.size() < bytes + 8) return {};
        std::memcpy(&filled, told.data() + bytes, sizeof filled);
        kept = unwinder_.unwind(registers, told.substr(0, std::min(filled, bytes)), addresses, kMostStack);
    } else if (number(count)) {
        for (uint64_t address = 0; count-- > 0 && kept < kMostStack && number(address);)
            if (address < static_cast<uint64_t>(PERF_CONTEXT_MAX)) addresses[kept++] = address;  // else a mark
    }
    return std::string(PackedStack(addresses, kept).bytes());
}

/// `by`: the thread that had the core when another was woken there; it may only have been interrupted.
void OsActivity::takeWakeUp(Recorder& r, Core& core, uint64_t ticks, uint32_t by, std::string_view fields,
                            uint64_t now) {
    constexpr size_t kFlagsAt = 2;
    constexpr unsigned char kInInterrupt = 0x08 | 0x10 | 0x40;  // hardware, deferred, not maskable
    fields.remove_prefix(std::min<size_t>(fields.size(), 4));   // their size
    uint32_t woken = 0;
    if (fields.size() < std::max(kFlagsAt + 1, wokenAt_ + sizeof woken)) return;
    std::memcpy(&woken, fields.data() + wokenAt_, sizeof woken);
    if (static_cast<unsigned char>(fields[kFlagsAt]) & kInInterrupt) by = 0;
    addEvent(r, *core.lane, {ticks, Kind::WakeUp, woken, by, 0, {}}, now);
}

void OsActivity::nameThread(Recorder& r, uint32_t thread, uint32_t process) {
    if (thread == kIdleThread || thread == kUnknownThread || !named_.try_emplace(thread, 0).second) return;
    char path[64];
    std::snprintf(path, sizeof path, "/proc/%" PRIu32 "/comm", thread);
    tellThread(r, thread, process, firstLineOf(path));
}

void OsActivity::tellThread(Recorder& r, uint32_t thread, uint32_t process, std::string_view name) {
    char path[64];
    std::snprintf(path, sizeof path, "/proc/%" PRIu32 "/stat", thread);
    addDefinition(r, OsThreadFields<std::string_view>{thread, process, name, isOfTheSystem(firstLineOf(path))});
}

/// A thread has a new name; some threads take one for each piece of work.
void OsActivity::renameThread(Recorder& r, uint32_t thread, uint32_t process, std::string_view name) {
    constexpr uint8_t kMostNames = 8;
    uint8_t& names = named_.try_emplace(thread, 0).first->second;
    if (name.empty() || names == kMostNames) return;
    ++names;
    tellThread(r, thread, process, name);
}

uint32_t OsActivity::counter(Recorder& r, const std::string& name, const char* unit) {
    const uint32_t id = r.nextCounter.fetch_add(1);
    addDefinition(r, CounterFields<std::string_view>{id, {}, name, unit});
    return id;
}

void OsActivity::startLoad(Recorder& r) {
    if (numbersOf("/proc/stat", "cpu ").empty())
        return addContext(r, "os load", "not recorded: /proc/stat cannot be read");
    load_ = true;
    loadLane_ = makeOwnLane(r, "system", "system", kThreadLane, 0, kNanosecondClock);
    ownUse_ = counter(r, "CPU use, own", "%");
    othersUse_ = counter(r, "CPU use, others", "%");
    for (const Core& core : cores_) {
        const std::string name = "core " + std::to_string(core.number);
        CoreLoad load;
        load.busy = counter(r, name + " use", "%");
        const std::string path =
            "/sys/devices/system/cpu/cpu" + std::to_string(core.number) + "/cpufreq/scaling_cur_freq";
        if (!firstLineOf(path.c_str()).empty()) load.frequency = counter(r, name + " frequency", "MHz");
        coreLoads_.push_back(load);
    }
    residentMb_ = counter(r, "memory in use", "MB");
    haveDisk_ = !numbersOf("/proc/self/io", "read_bytes:").empty();
    if (haveDisk_) {
        diskRead_ = counter(r, "disk read", "kB/s");
        diskWritten_ = counter(r, "disk written", "kB/s");
    }
    netIn_ = counter(r, "network in", "kB/s");
    netOut_ = counter(r, "network out", "kB/s");
    softFaults_ = counter(r, "page faults", "per s");
    hardFaults_ = counter(r, "disk faults", "per s");
    std::string missing;
    if (coreLoads_.empty() || !coreLoads_[0].frequency) missing += "; core frequency: the system does not tell it";
    if (!haveDisk_) missing += "; disk: /proc/self/io cannot be read";
    addContext(r, "os load", "every 250 ms" + missing);
}

void OsActivity::readLoad(Recorder& r, uint64_t now) {
    const double seconds = static_cast<double>(now - lastLoadNs_) * 1e-9;
    const bool first = lastLoadNs_ == 0;
    lastLoadNs_ = now;
    if (!first && seconds < 0.01) return;
    const auto add = [&](uint32_t id, double value) FUGATO_NEEDS(r.outputMutex) {
        if (first || !id) return;
        uint64_t bits = 0;
        std::memcpy(&bits, &value, sizeof bits);
        addEvent(r, *loadLane_, {now - r.originNs, Kind::Count, id, bits, 0, {}}, now);
    };
    const double ticksPerSecond = static_cast<double>(sysconf(_SC_CLK_TCK)),
                 page = static_cast<double>(sysconf(_SC_PAGESIZE));
    const auto rate = [&](uint64_t later, uint64_t earlier) {
        return later > earlier ? static_cast<double>(later - earlier) / seconds : 0.0;
    };
    const auto share = [](double part, double whole) { return whole > 0 ? std::min(100.0, 100 * part / whole) : 0.0; };

    uint64_t busyInAll = 0;
    for (size_t i = 0; i < coreLoads_.size(); ++i) {
        CoreLoad& load = coreLoads_[i];
        const auto stat = numbersOf("/proc/stat", ("cpu" + std::to_string(cores_[i].number) + " ").c_str());
        uint64_t all = 0;
        for (size_t k = 0; k < 8; ++k) all += numberAt(stat, k);
        const uint64_t idle = numberAt(stat, 3) + numberAt(stat, 4);
        busyInAll += all - idle;
        const uint64_t spent = all > load.all ? all - load.all : 0, idled = idle > load.idle ? idle - load.idle : 0;
        add(load.busy, share(static_cast<double>(spent) - static_cast<double>(std::min(idled, spent)),
                             static_cast<double>(spent)));
        load.all = all;
        load.idle = idle;
        if (!load.frequency) continue;
        const std::string path =
            "/sys/devices/system/cpu/cpu" + std::to_string(cores_[i].number) + "/cpufreq/scaling_cur_freq";
        add(load.frequency, std::atof(firstLineOf(path.c_str()).c_str()) / 1000);
    }
    // /proc/self/stat: after the name in parentheses come state, ppid…; faults are the 8th and 10th
    // number from there, user and system time the 12th and 13th.
    const std::string line = firstLineOf("/proc/self/stat");
    std::vector<uint64_t> stat;
    const char* at = line.c_str() + std::min(line.size(), line.rfind(')') + 3);
    for (char* end = nullptr; *at; at = end) {
        stat.push_back(std::strtoull(at, &end, 10));
        if (end == at) break;
    }
    Totals total;
    total.busy = busyInAll;
    total.soft = numberAt(stat, 6);
    total.hard = numberAt(stat, 8);
    total.own = numberAt(stat, 10) + numberAt(stat, 11);
    const double capacity = ticksPerSecond * static_cast<double>(coreLoads_.size());
    const double own = rate(total.own, before_.own), busy = rate(total.busy, before_.busy);
    add(ownUse_, share(own, capacity));
    add(othersUse_, share(std::max(0.0, busy - own), capacity));
    add(residentMb_, static_cast<double>(numberAt(numbersOf("/proc/self/statm"), 1)) * page / 1048576);
    if (haveDisk_) {
        total.diskRead = numberAt(numbersOf("/proc/self/io", "read_bytes:"), 0);
        total.diskWritten = numberAt(numbersOf("/proc/self/io", "write_bytes:"), 0);
        add(diskRead_, rate(total.diskRead, before_.diskRead) / 1024);
        add(diskWritten_, rate(total.diskWritten, before_.diskWritten) / 1024);
    }
    if (std::FILE* file = std::fopen("/proc/self/net/dev", "re")) {
        char text[512];
        while (std::fgets(text, sizeof text, file)) {
            const char* colon = std::strchr(text, ':');
            if (!colon || std::strstr(text, "lo:")) continue;
            unsigned long long in = 0, out = 0;
            if (std::sscanf(colon + 1, "%llu %*u %*u %*u %*u %*u %*u %*u %llu", &in, &out) != 2) continue;
            total.netIn += in;
            total.netOut += out;
        }
        std::fclose(file);
    }
    add(netIn_, rate(total.netIn, before_.netIn) / 1024);
    add(netOut_, rate(total.netOut, before_.netOut) / 1024);
    add(softFaults_, rate(total.soft, before_.soft));
    add(hardFaults_, rate(total.hard, before_.hard));
    before_ = total;
}

}  // namespace fugato::recording
