// SPDX-License-Identifier: MIT
//
// What OpenGL and OpenGL ES did on the device, and when, by its own clock: a lane beside those of the threads. Header
// only; needs no header and no library of OpenGL, since it asks for functions by name.
//
//     fug::GlQueue::Function load(const char* name) { return (fug::GlQueue::Function)SDL_GL_GetProcAddress(name); }
//     ...
//     fug::GlQueue gpu(load);             // one for each context
//     ...
//     { FUG_GL_MARK(gpu, "Shadows", "gpu"); drawShadows(); }
//     ...
//     SDL_GL_SwapWindow(window);
//     gpu.collect();                      // once a frame
//
// Needs     OpenGL 3.3, ARB_timer_query, or, in OpenGL ES, EXT_disjoint_timer_query; trouble() tells what is missing.
// Threads   The one in which the context is current.
// Cost      Two timestamp queries a mark. The device is never waited for: what it has not finished is told later.
// Errors    None, and no OpenGL error is left behind. Marks may not lie between glBegin and glEnd, nor in display
// lists.
#pragma once

#ifdef FUGATO_OFF

#include <fugato/fugato.hpp>

namespace fug {
class GlQueue {
public:
    using Function = void (*)();
    using Load = Function (*)(const char* name);
    constexpr explicit GlQueue(Load, const char* = "") noexcept {}
    constexpr const char* trouble() const noexcept { return "recording is left out"; }
    constexpr uint64_t leftOut() const noexcept { return 0; }
    constexpr bool begin(fug_site&) const noexcept { return false; }
    constexpr void end(bool) const noexcept {}
    constexpr void collect() const noexcept {}
    constexpr uint64_t finishedSince(int64_t) const noexcept { return 0; }
};
}  // namespace fug
#define FUG_GL_MARK(...) static_assert(true, "")

#else

#include <cstdlib>
#include <cstring>
#include <deque>
#include <fugato/device_queue.hpp>
#include <optional>

namespace fug {

class GlQueue {
public:
    using Function = void (*)();
    using Load = Function (*)(const char* name);

    /// Nothing is asked of OpenGL before the first mark that is recorded.
    explicit GlQueue(Load load, const char* name = "GPU") noexcept : load_(load), name_(name) {}
    /// Deletes its queries: with the context current, or after forget().
    ~GlQueue() {
        if (!queries_.empty()) gl_.deleteQueries(static_cast<int>(queries_.size()), queries_.data());
    }
    GlQueue(const GlQueue&) = delete;
    GlQueue& operator=(const GlQueue&) = delete;

    /// Why nothing can be recorded; null where it can be, or nothing was marked yet.
    const char* trouble() const noexcept { return trouble_; }
    /// Marks that were left out, because too many were on their way.
    uint64_t leftOut() const noexcept { return leftOut_; }

    /// A mark of the device's work begins; returns whether it is recorded, for end().
    bool begin(fug_site& site) {
        if (!fug_recording() || trouble_ || (!queue_ && !open())) return false;
        if (free_.size() < depth_ + 2 && !grow(depth_ + 2)) {  // one for its end, too, and those of all that is open
            ++leftOut_;
            return false;
        }
        if (depth_++ == 0) now_.askFirst();
        stamp(&site);
        if (drawsByTiles_ && depth_ == 1) gl_.flush();
        return true;
    }
    void end(bool began) {
        if (!began || depth_ == 0) return;
        stamp(nullptr);
        if (--depth_ > 0) return;
        now_.askLast();
        waiting_.push_back(std::move(now_));
        now_ = {};
        if (!kept_.empty()) {
            now_.stamps = std::move(kept_.back());
            kept_.pop_back();
        }
    }
    /// How many marks are open.
    size_t depth() const noexcept { return depth_; }

    /// Tells what the device has finished. Once a frame.
    void collect() {
        if (!queue_) return;
        if (!waiting_.empty() && queue_->syncIsDue(monotonicNs())) sync();
        if (gl_.es) {
            int disjoint = 0;
            gl_.getIntegerv(kDisjoint, &disjoint);  // its clock jumped: what is on its way has no times
            if (disjoint) {
                for (DeviceWork& work : waiting_) giveBack(work);
                waiting_.clear();
            }
        }
        while (!waiting_.empty()) {
            DeviceWork& work = waiting_.front();
            unsigned there = 0;
            gl_.getQueryObjectuiv(work.stamps.back().query, kAvailable, &there);
            if (!there) return;
            for (DeviceWork::Stamp& stamp : work.stamps) gl_.getQueryObjectui64v(stamp.query, kResult, &stamp.ticks);
            queue_->tell(work);
            giveBack(work);
            waiting_.pop_front();
        }
    }
    /// As DeviceQueue::finishedSince().
    uint64_t finishedSince(int64_t ns) const noexcept { return queue_ ? queue_->finishedSince(ns) : 0; }

    /// The context has gone, and all queries with it.
    void forget() noexcept {
        queries_.clear();
        free_.clear();
        waiting_.clear();
        now_.clear();
        depth_ = 0;
        queue_.reset();
        trouble_ = "the context has gone";
    }

private:
    static constexpr unsigned kTimestamp = 0x8E28, kAvailable = 0x8867, kResult = 0x8866, kCounterBits = 0x8864,
                              kRenderer = 0x1F01, kVersion = 0x1F02, kExtensions = 0x1F03, kNumExtensions = 0x821D,
                              kDisjoint = 0x8FBB;
    static constexpr size_t kMostQueries = 8192;

    struct Functions {
        bool es = false;
        const unsigned char* (*getString)(unsigned) = nullptr;
        const unsigned char* (*getStringi)(unsigned, unsigned) = nullptr;
        void (*getIntegerv)(unsigned, int*) = nullptr;
        void (*flush)() = nullptr;
        void (*genQueries)(int, unsigned*) = nullptr;
        void (*deleteQueries)(int, const unsigned*) = nullptr;
        void (*queryCounter)(unsigned, unsigned) = nullptr;
        void (*getQueryiv)(unsigned, unsigned, int*) = nullptr;
        void (*getQueryObjectuiv)(unsigned, unsigned, unsigned*) = nullptr;
        void (*getQueryObjectui64v)(unsigned, unsigned, uint64_t*) = nullptr;
        void (*getInteger64v)(unsigned, int64_t*) = nullptr;
    };

    template <class Pointer>
    bool find(Pointer& to, const char* name, const char* suffix = "") const {
        char whole[64];
        std::strcpy(whole, name);
        std::strcat(whole, suffix);
        to = reinterpret_cast<Pointer>(load_(whole));
        return to != nullptr;
    }
    bool hasExtension(const char* name, int major) const {
        if (major >= 3 && gl_.getStringi) {
            int count = 0;
            gl_.getIntegerv(kNumExtensions, &count);
            for (int i = 0; i < count; ++i) {
                const auto* one = reinterpret_cast<const char*>(gl_.getStringi(kExtensions, static_cast<unsigned>(i)));
                if (one && std::strcmp(one, name) == 0) return true;
            }
            return false;
        }
        const auto* all = reinterpret_cast<const char*>(gl_.getString(kExtensions));
        for (const size_t length = std::strlen(name); all && (all = std::strstr(all, name)); all += length)
            if (all[length] == ' ' || all[length] == 0) return true;
        return false;
    }

    /// With the context current for the first time. Returns whether the device tells times.
    bool open() {
        trouble_ = nullptr;
        if (!find(gl_.getString, "glGetString") || !find(gl_.getIntegerv, "glGetIntegerv"))
            return failed("OpenGL was not found");
        const auto* version = reinterpret_cast<const char*>(gl_.getString(kVersion));
        if (!version) return false;  // no context is current yet
        gl_.es = std::strncmp(version, "OpenGL ES", 9) == 0;
        const char* number = version;
        while (*number && (*number < '0' || *number > '9')) ++number;
        char* rest = nullptr;
        const long major = std::strtol(number, &rest, 10),
                   minor = *rest == '.' ? std::strtol(rest + 1, nullptr, 10) : 0;
        find(gl_.getStringi, "glGetStringi");
        const bool core = !gl_.es && (major > 3 || (major == 3 && minor >= 3));
        if (!core &&
            !hasExtension(gl_.es ? "GL_EXT_disjoint_timer_query" : "GL_ARB_timer_query", static_cast<int>(major)))
            return failed("this OpenGL does not tell the device's time");
        const char* const suffix = gl_.es ? "EXT" : "";
        const bool all =
            find(gl_.genQueries, "glGenQueries", suffix) && find(gl_.deleteQueries, "glDeleteQueries", suffix) &&
            find(gl_.queryCounter, "glQueryCounter", suffix) && find(gl_.getQueryiv, "glGetQueryiv", suffix) &&
            find(gl_.getQueryObjectuiv, "glGetQueryObjectuiv", suffix) &&
            find(gl_.getQueryObjectui64v, "glGetQueryObjectui64v", suffix) &&
            find(gl_.getInteger64v, "glGetInteger64v", suffix);
        if (!all) return failed("a function of OpenGL was not found");
        int bits = 0;
        gl_.getQueryiv(kTimestamp, kCounterBits, &bits);
        if (bits <= 0) return failed("the device has no clock");
        // Drivers that draw by the processor, tile by tile, take the time at the last tile they come to: near the end
        // of the picture, unless the time stands alone.
        const auto* renderer = reinterpret_cast<const char*>(gl_.getString(kRenderer));
        drawsByTiles_ = renderer && (std::strstr(renderer, "llvmpipe") || std::strstr(renderer, "softpipe")) &&
                        find(gl_.flush, "glFlush");
        queue_.emplace(name_, name_, 1, static_cast<uint32_t>(bits));
        return grow(64);
    }
    bool failed(const char* why) {
        trouble_ = why;
        return false;
    }
    /// At least so many queries are free then.
    bool grow(size_t least) {
        if (queries_.size() + least > kMostQueries) return false;
        const size_t had = queries_.size(), more = std::max(least, had);
        queries_.resize(had + std::min(more, kMostQueries - had));
        gl_.genQueries(static_cast<int>(queries_.size() - had), queries_.data() + had);
        free_.insert(free_.end(), queries_.begin() + static_cast<std::ptrdiff_t>(had), queries_.end());
        return true;
    }
    void stamp(fug_site* site) {
        const unsigned query = free_.back();
        free_.pop_back();
        gl_.queryCounter(query, kTimestamp);
        now_.stamps.push_back({site, query, 0});
    }
    void giveBack(DeviceWork& work) {
        for (const DeviceWork::Stamp& stamp : work.stamps) free_.push_back(stamp.query);
        work.stamps.clear();
        kept_.push_back(std::move(work.stamps));
    }
    void sync() {
        queue_->sync(readDeviceClock([this] {
            int64_t now = 0;
            gl_.getInteger64v(kTimestamp, &now);
            return static_cast<uint64_t>(now);
        }));
    }

    const Load load_;
    const char* const name_;
    const char* trouble_ = nullptr;
    Functions gl_;
    std::optional<DeviceQueue> queue_;  // once the first mark was recorded
    std::vector<unsigned> queries_, free_;
    DeviceWork now_;                                     // being asked for
    std::deque<DeviceWork> waiting_;                     // not finished yet
    std::vector<std::vector<DeviceWork::Stamp> > kept_;  // room for more
    size_t depth_ = 0;
    bool drawsByTiles_ = false;
    uint64_t leftOut_ = 0;
};

/// A mark of the device's work that lasts as long as the object. Use FUG_GL_MARK.
class GlMark {
public:
    GlMark(GlQueue& queue, fug_site& site) : queue_(queue), began_(queue.begin(site)) {}
    ~GlMark() { queue_.end(began_); }
    GlMark(const GlMark&) = delete;
    GlMark& operator=(const GlMark&) = delete;

private:
    GlQueue& queue_;
    const bool began_;
};

}  // namespace fug

/// What the device does for the commands until the end of the block: FUG_GL_MARK(queue, "name"[, "category"[,
/// "description"]]).
#define FUG_GL_MARK(queue, ...) FUG_GL_MARK_NUMBERED(__COUNTER__, queue, __VA_ARGS__)
#define FUG_GL_MARK_NUMBERED(number, queue, ...)             \
    FUG_SITE_HERE(FUG_JOIN(fugGlSite, number), __VA_ARGS__); \
    const ::fug::GlMark FUG_JOIN(fugGlMark, number)(queue, FUG_JOIN(fugGlSite, number))
#endif
