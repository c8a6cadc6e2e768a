// SPDX-License-Identifier: GPL-3.0-or-later
#include "storage.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <csignal>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fugato_layout.hpp>
#include <new>
#include <numeric>
#include <own_files.hpp>

#include "format/log.h"
#include "side_by_side.h"

namespace fugato {

namespace {

constexpr uint64_t kMostReserved = uint64_t{256} << 30, kLeastReserved = uint64_t{64} << 20;
constexpr uint64_t kFirstStep = uint64_t{1} << 20, kMostStep = uint64_t{64} << 20;
constexpr std::chrono::milliseconds kKeepEvery{100};
constexpr std::chrono::milliseconds kKeepEveryWithRoom{1000};  // where less than half of the limit is taken
constexpr size_t kTextSlab = 64 * 1024;
constexpr size_t kKnownTexts = 4096;  // a power of two

uint64_t roundUp(uint64_t value, uint64_t to) { return (value + to - 1) / to * to; }

// ---- reads that fail ------------------------------------------------------------------------------
//
// The system sends SIGBUS where a mapped file was cut or its disk fails. A page of one of these storages then
// reads as zeros; everything else goes to whoever handled the signal before.

struct Watched {
    std::atomic<char*> base{nullptr};
    std::atomic<uint64_t> bytes{0};
    std::atomic<std::atomic<bool>*> damaged{nullptr};
};
constexpr int kMostWatched = 256;
Watched watchedStorages[kMostWatched];
Mutex watching;  // while places are taken
struct sigaction before;

void readFailed(int number, siginfo_t* info, void* context) {
    auto* const at = static_cast<char*>(info->si_addr);
    for (Watched& storage : watchedStorages) {
        char* const base = storage.base.load(std::memory_order_acquire);
        if (!base || at < base || at >= base + storage.bytes.load(std::memory_order_acquire)) continue;
        const auto page = static_cast<size_t>(::sysconf(_SC_PAGESIZE));
        char* const from = base + static_cast<size_t>(at - base) / page * page;
        if (::mmap(from, page, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0) == MAP_FAILED)
            break;
        storage.damaged.load(std::memory_order_acquire)->store(true, std::memory_order_relaxed);
        return;
    }
    if (before.sa_flags & SA_SIGINFO) return before.sa_sigaction(number, info, context);
    if (before.sa_handler != SIG_DFL && before.sa_handler != SIG_IGN) return before.sa_handler(number);
    ::signal(number, SIG_DFL);  // comes again at once, and ends the program
}

int watch(char* base, uint64_t bytes, std::atomic<bool>* damaged) {
    const Lock lock(watching);
    static const bool installed = [] {
        struct sigaction action {};
        action.sa_sigaction = readFailed;
        action.sa_flags = SA_SIGINFO | SA_RESTART;
        sigemptyset(&action.sa_mask);
        return ::sigaction(SIGBUS, &action, &before) == 0;
    }();
    for (int i = 0; installed && i < kMostWatched; ++i) {
        Watched& free = watchedStorages[i];
        if (free.base.load()) continue;
        free.bytes = bytes;
        free.damaged = damaged;
        free.base.store(base, std::memory_order_release);
        return i;
    }
    return -1;
}

void watchNoMore(int at) {
    if (at >= 0) watchedStorages[at].base.store(nullptr, std::memory_order_release);
}

}  // namespace

Storage::Storage(int fd, uint64_t reserved)
    : fd_(fd),
      reserved_(reserved),
      // Zeros that take no memory until they are written to.
      used_(static_cast<std::atomic<uint32_t>*>(std::calloc((reserved >> kRegionBits) + 1, sizeof *used_))) {
    if (!used_) throw std::bad_alloc();
}

std::shared_ptr<Storage> Storage::make(int fd, uint64_t least) {
    // Only addresses are taken here, no memory. Where a limit is set on them, fewer have to do.
    for (uint64_t reserved = kMostReserved; reserved >= std::max(kLeastReserved, least); reserved /= 4) {
        void* base = ::mmap(nullptr, reserved, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
        if (base == MAP_FAILED) continue;
        std::shared_ptr<Storage> storage(new Storage(fd, reserved));
        storage->base_ = static_cast<char*>(base);
        if (fd >= 0) storage->watched_ = watch(storage->base_, reserved, &storage->damaged_);
        return storage;
    }
    throw std::bad_alloc();
}

std::shared_ptr<Storage> Storage::inMemory(std::string why) {
    auto made = make(-1, 0);
    made->whyInMemory_ = std::move(why);
    return made;
}

std::string Storage::whyInMemory() const {
    if (!spilled()) return whyInMemory_;
    return "The disk of " + folder_ + " is full, so part of this recording is kept in memory and " +
           "opening it takes as long next time. Free some space there.";
}

Result<std::shared_ptr<Storage>> Storage::inFolder(const std::string& folder) {
    const int fd = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    if (fd < 0) return Failure{"Cannot write in " + folder + ": " + std::strerror(errno) + "."};
    auto storage = make(fd, 0);
    storage->folder_ = folder;
    return storage;
}

std::shared_ptr<Storage> Storage::beside() const {
    if (folder_.empty()) return inMemory();
    auto file = inFolder(folder_);
    if (!file) return inMemory();
    (*file)->keepWithin(limit());
    return *file;
}

bool Storage::giveName(const std::string& path) {
    if (fd_ < 0 || fugato::giveName(fd_, path) != 0) return false;
    path_ = path;
    return true;
}

Result<std::shared_ptr<Storage>> Storage::existing(const std::string& path, uint64_t bytes,
                                                   std::vector<uint64_t> checksums) {
    if (checksums.size() != regionsOf(bytes)) return Failure{"Cannot read " + path + "."};
    const int fd = openOwn(path, O_RDONLY).release();
    struct stat status {};
    if (fd < 0 || ::fstat(fd, &status) != 0 || static_cast<uint64_t>(status.st_size) < bytes) {
        if (fd >= 0) ::close(fd);
        return Failure{"Cannot read " + path + "."};
    }
    auto storage = make(fd, bytes);
    storage->folder_ = folderOf(path);
    storage->path_ = path;
    if (bytes && ::mmap(storage->base_, bytes, PROT_READ, MAP_SHARED | MAP_FIXED, fd, 0) == MAP_FAILED)
        return Failure{"Cannot read " + path + ": " + std::strerror(errno) + "."};
    {
        const Lock lock(storage->growing_);
        storage->size_ = storage->committed_ = bytes;
    }
    storage->checksums_ = std::move(checksums);
    storage->checked_.reset(new std::atomic<uint8_t>[storage->checksums_.size()]());
    return storage;
}

uint64_t Storage::checksumOf(uint64_t region) const {
    const uint64_t from = std::max(region * kRegion, kFirst), to = std::min(size(), (region + 1) * kRegion);
    return layout::checksum(base_ + from, to > from ? to - from : 0);
}

std::vector<uint64_t> Storage::regionChecksums() const {
    std::vector<uint64_t> out(regionsOf(size()));
    std::atomic<uint64_t> next{0};
    sideBySide(threadsFor(out.size() / 64), [&](size_t) {
        for (uint64_t i; (i = next++) < out.size();) out[i] = checksumOf(i);
    });
    return out;
}

bool Storage::check(uint64_t offset, uint64_t bytes) const {
    if (!checked_ || !bytes) return true;
    bool good = true;
    const uint64_t to = std::min(offset + bytes, size());
    for (uint64_t region = offset >> kRegionBits; region << kRegionBits < to; ++region) {
        if (checked_[region].load(std::memory_order_acquire) <= kBeingChecked) checkRegion(region);
        good = good && checked_[region].load(std::memory_order_acquire) == kGood;
    }
    return good;
}

void Storage::checkRegion(uint64_t region) const {
    std::atomic<uint8_t>& state = checked_[region];
    uint8_t found = kUnchecked;
    if (!state.compare_exchange_strong(found, kBeingChecked)) {  // by another thread: of this region only it is awaited
        for (; found == kBeingChecked; found = state.load(std::memory_order_acquire)) state.wait(kBeingChecked);
        return;
    }
    const bool good = checksumOf(region) == checksums_[region] && contentsAreGood(region);
    if (!good) {
        damaged_ = true;
        const uint64_t bytes = std::min(kRegion, reserved_ - region * kRegion);
        (void)::mmap(base_ + region * kRegion, bytes, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0);
    }
    state.store(good ? kGood : kBad, std::memory_order_release);
    state.notify_all();
    if (!good)
        log(LogLevel::Warning,
            "A part of a kept file is damaged; it reads as zeros until the recording is read again.");
}

bool Storage::contentsAreGood(uint64_t region) const {
    return !contents_ || contents_(base_, region * kRegion, std::min(size(), (region + 1) * kRegion));
}

bool Storage::checkContents(Contents good) {
    contents_ = std::move(good);
    bool all = true;
    for (uint64_t region = 0; region < regionsOf(size()); ++region)
        if (!checked_ || checked_[region].load() == kGood) all = all && contentsAreGood(region);
    if (!checked_) contents_ = {};
    return all;
}

Storage::~Storage() {
    {
        const Lock lock(limiting_);
        ending_ = true;
    }
    changed_.notify_all();
    if (keeper_.joinable()) keeper_.join();
    watchNoMore(watched_);
    if (base_) ::munmap(base_, reserved_);
    std::free(used_);
    if (fd_ >= 0) ::close(fd_);
}

/// Makes the addresses up to `upTo` usable.
bool Storage::commit(uint64_t upTo) {
    const uint64_t step = std::clamp(committed_, kFirstStep, kMostStep);
    const uint64_t wanted = std::min(reserved_, roundUp(std::max(upTo, committed_ + step), kFirstStep));
    if (wanted < upTo) return false;
    if (fd_ >= 0 && !spilled_) {
        // Room on the disk is taken first: a full disk must not be met while writing into memory.
        const int noRoom =
            ::posix_fallocate(fd_, static_cast<off_t>(committed_), static_cast<off_t>(wanted - committed_));
        if (!noRoom && ::mmap(base_ + committed_, wanted - committed_, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_FIXED,
                              fd_, static_cast<off_t>(committed_)) != MAP_FAILED) {
            committed_ = wanted;
            return true;
        }
        spilled_ = true;
        log(LogLevel::Warning,
            std::string("The rest of a recording is kept in memory: ") + std::strerror(noRoom ? noRoom : errno) + ".");
        spilledFrom_ = committed_;
    }
    if (::mprotect(base_ + committed_, wanted - committed_, PROT_READ | PROT_WRITE) != 0) return false;
    committed_ = wanted;
    return true;
}

uint64_t Storage::allocate(size_t bytes) {
    const Lock lock(growing_);
    const uint64_t offset = size_.load(std::memory_order_relaxed), end = offset + roundUp(bytes, 8);
    if (end > committed_ && !commit(end)) throw std::bad_alloc();
    size_.store(end, std::memory_order_release);
    noteComing(static_cast<uint32_t>((end >> kRegionBits) - (offset >> kRegionBits)));
    return offset;
}

void Storage::write(uint64_t offset, const void* from, size_t bytes) {
    const auto* at = static_cast<const char*>(from);
    if (fd_ >= 0 && offset + bytes <= spilledFrom_.load(std::memory_order_relaxed))
        while (bytes) {
            const ssize_t written = ::pwrite(fd_, at, bytes, static_cast<off_t>(offset));
            if (written < 0 && errno == EINTR) continue;
            if (written <= 0) break;
            at += written;
            offset += static_cast<uint64_t>(written);
            bytes -= static_cast<size_t>(written);
        }
    if (bytes) std::memcpy(base_ + offset, at, bytes);
}

void Storage::trim() {
    const Lock lock(growing_);
    if (fd_ < 0 || spilled_ || size_ == committed_) return;
    // The last page stays mapped: it is filled up with zeros.
    if (::ftruncate(fd_, static_cast<off_t>(size_.load())) == 0) committed_ = size_;
}

std::string_view Storage::text(TextRef text) const {
    if (!text || text >= size()) return {};
    const auto* from = reinterpret_cast<const uint8_t*>(at(text));
    std::string_view found;
    layout::readText(from, reinterpret_cast<const uint8_t*>(base_) + size(), found);
    if (found.size() > kRegion / 2) check(text, found.size() + 10);  // pictures
    return found;
}

uint64_t Storage::residentBytes() {
    unsigned long long all = 0, resident = 0;
    if (std::FILE* file = std::fopen("/proc/self/statm", "r")) {
        if (std::fscanf(file, "%llu %llu", &all, &resident) != 2) resident = 0;
        std::fclose(file);
    }
    return resident * static_cast<uint64_t>(::sysconf(_SC_PAGESIZE));
}

void Storage::keepWithin(uint64_t bytes) {
    if (fd_ < 0) return;
    const Lock limiting(limiting_);
    limit_ = bytes;
    if (keeper_.joinable() || !bytes) return;
    keeper_ = std::thread([this] {
        for (;;) {
            const uint64_t limit = limit_;
            const bool room = limit && letGoNow(limit) < limit / 2;
            const auto until = std::chrono::steady_clock::now() + (room ? kKeepEveryWithRoom : kKeepEvery);
            const Lock lock(limiting_);
            while (!ending_ && !(limit_ && coming_ - looked_ >= kLookAfter))
                if (changed_.wait_until(limiting_, until) == std::cv_status::timeout) break;
            if (ending_) return;
        }
    });
}

uint64_t Storage::limit() const { return limit_; }

void Storage::lookAgain(uint32_t coming) const {
    const uint64_t limit = limit_;
    if (!limit) return;
    if (coming - looked_ >= 2 * kLookAfter)
        letGoNow(limit);
    else
        changed_.notify_one();
}

/// Where there is no memory even for that, the next look tries again.
uint64_t Storage::letGoNow(uint64_t bytes) const {
    try {
        return letGo(bytes);
    } catch (const std::bad_alloc&) {
        looked_ = coming_.load();
        return bytes;
    }
}

uint64_t Storage::letGo(uint64_t bytes) const {
    if (fd_ < 0) return 0;
    const Lock lock(keeping_);
    // Told at the end only: whoever fills or reads much meanwhile waits here until this is done.
    struct Told {
        std::atomic<uint32_t>& looked;
        const uint32_t coming;
        ~Told() { looked = coming; }
    } const told{looked_, coming_.load()};
    now_.fetch_add(1, std::memory_order_relaxed);
    uint64_t resident = residentBytes();
    if (resident <= bytes) return resident;
    const uint64_t region = uint64_t{1} << kRegionBits;
    const uint64_t filled = size();  // what is spilled is known for all that lies before it
    const uint64_t regions = std::min(filled, spilledFrom_.load()) >> kRegionBits;  // whole ones only
    std::vector<uint32_t> order(regions);
    std::iota(order.begin(), order.end(), 0u);
    std::vector<uint32_t> used(regions);
    for (uint64_t i = 0; i < regions; ++i) used[i] = used_[i].load(std::memory_order_relaxed);
    std::stable_sort(order.begin(), order.end(), [&](uint32_t x, uint32_t y) { return used[x] < used[y]; });
    const uint64_t least = bytes / 10 * 9;
    for (size_t i = 0; i < order.size() && resident > least;) {
        const size_t from = i, batch = std::min(order.size(), i + 64);
        while (i < batch) {  // neighbours go together: each call makes every core forget addresses
            const size_t first = i++;
            while (i < batch && order[i] == order[i - 1] + 1) ++i;
            ::madvise(base_ + order[first] * region, (i - first) * region, MADV_DONTNEED);
        }
        for (size_t k = from; k < batch; ++k) used_[order[k]].store(0, std::memory_order_relaxed);
        resident = residentBytes();
    }
    return resident;
}

bool Storage::resident(uint64_t offset, size_t bytes) const {
    if (fd_ < 0 || !bytes) return true;
    bool used = true;  // and not evicted since
    for (uint64_t region = offset >> kRegionBits; region <= (offset + bytes - 1) >> kRegionBits; ++region) {
        if (checked_ && checked_[region].load(std::memory_order_relaxed) <= kBeingChecked) return false;
        used = used && used_[region].load(std::memory_order_relaxed) != 0;
    }
    if (used) return true;
    const auto page = static_cast<uint64_t>(::sysconf(_SC_PAGESIZE));
    const uint64_t from = offset / page * page, to = roundUp(offset + bytes, page);
    std::vector<unsigned char> pages((to - from) / page);
    if (::mincore(base_ + from, to - from, pages.data()) != 0) return true;
    return std::all_of(pages.begin(), pages.end(), [](unsigned char p) { return p & 1; });
}

void Storage::fetch(uint64_t offset, size_t bytes) const {
    volatile char read = 0;
    for (uint64_t at = offset; at < offset + bytes; at += 4096) read = *this->at(at);
    if (bytes) read = *at(offset + bytes - 1);
    (void)read;
}

TextRef TextWriter::addBytes(std::string_view bytes) {
    char length[10];
    const auto head = static_cast<size_t>(layout::putVarint(length, bytes.size()) - length);
    const size_t need = head + bytes.size();
    if (need > left_) {
        const size_t slab = std::max(need, kTextSlab);
        slab_ = storage_.allocate(slab);
        left_ = slab;
    }
    const TextRef at = slab_;
    char* to = storage_.at(at);
    std::memcpy(to, length, head);
    if (!bytes.empty()) std::memcpy(to + head, bytes.data(), bytes.size());
    slab_ += need;
    left_ -= need;
    return at;
}

TextRef TextWriter::add(std::string_view text) {
    if (text.empty()) return 0;
    if (known_.empty()) known_.resize(kKnownTexts);
    const uint64_t hash = layout::checksum(text.data(), text.size());
    Known& known = known_[hash & (kKnownTexts - 1)];
    if (known.text && known.hash == hash && std::as_const(storage_).text(known.text) == text) return known.text;
    known = {addBytes(text), hash};
    return known.text;
}

}  // namespace fugato
