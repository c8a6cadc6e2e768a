// SPDX-License-Identifier: MIT
//
// What Vulkan did on the device, and when, by its own clock: a lane for each queue beside those of the threads. Header
// only; include vulkan.h (or volk.h) before it. Functions are found through vkGetInstanceProcAddr.
//
//     fug::VulkanDevice device(instance, physical, logical, vkGetInstanceProcAddr);
//     fug::VulkanQueue graphics(device, familyIndex, "GPU graphics");
//     fug::VulkanCommands times(device, familyIndex);   // one with each command buffer
//     ...
//     vkBeginCommandBuffer(commands, &info);
//     FUG_SITE_HERE(picture, "Picture", "gpu");
//     times.begin(commands, picture);               // at once: outside of render passes
//     { FUG_VULKAN_MARK(times, "Shadows", "gpu"); vkCmdDraw(commands, ...); }
//     times.end();
//     vkEndCommandBuffer(commands);
//     graphics.submitted(times);                    // in the order in which they are submitted
//     vkQueueSubmit(queue, ...);
//     ...
//     graphics.collect();                           // once a frame
//
// Needs     Primary command buffers of a family with graphics or compute and timestamps. With
//           VK_EXT_calibrated_timestamps enabled both clocks are read at once; without it, the device's is set by what
//           began soonest of each second, and the first dozen submissions are told late.
// Threads   A VulkanCommands by one at a time, as its command buffer; a VulkanQueue by one at a time.
// Cost      A timestamp at a mark's begin and end. The device is never waited for: what it has not finished is told
//           later. A mark begins when all that came before it on its queue has finished.
// Errors    None; marks beyond kMostMarks of a command buffer are left out. Command buffers that are submitted again
//           before collect() has seen them finished are told once. Destroy VulkanCommands before their device, and
//           not while their command buffer is at work.
#pragma once

#ifdef FUGATO_OFF

#include <fugato/fugato.hpp>

namespace fug {
class VulkanDevice {
public:
    constexpr VulkanDevice(VkInstance, VkPhysicalDevice, VkDevice, PFN_vkGetInstanceProcAddr) noexcept {}
    constexpr uint32_t bitsOf(uint32_t) const noexcept { return 0; }
};
class VulkanCommands {
public:
    constexpr VulkanCommands(const VulkanDevice&, uint32_t) noexcept {}
    constexpr void begin(VkCommandBuffer, fug_site&) const noexcept {}
    constexpr bool begin(fug_site&) const noexcept { return false; }
    constexpr void end(bool = true) const noexcept {}
};
class VulkanQueue {
public:
    constexpr VulkanQueue(const VulkanDevice&, uint32_t, const char*) noexcept {}
    constexpr void submitted(const VulkanCommands&) const noexcept {}
    constexpr void collect() const noexcept {}
    constexpr uint64_t finishedSince(int64_t) const noexcept { return 0; }
};
}  // namespace fug
#define FUG_VULKAN_MARK(...) static_assert(true, "")

#else

#include <deque>
#include <fugato/device_queue.hpp>

namespace fug {

class VulkanCommands;

/// What queues and command buffers of one logical device share.
class VulkanDevice {
public:
    VulkanDevice(VkInstance instance, VkPhysicalDevice physical, VkDevice device,
                 PFN_vkGetInstanceProcAddr get) noexcept
        : device_(device) {
        const auto of = [&](auto& to, const char* name) {
            to = reinterpret_cast<std::decay_t<decltype(to)> >(get(instance, name));
        };
        PFN_vkGetPhysicalDeviceProperties properties = nullptr;
        PFN_vkGetDeviceProcAddr getOfDevice = nullptr;
        of(properties, "vkGetPhysicalDeviceProperties");
        of(families_, "vkGetPhysicalDeviceQueueFamilyProperties");
        of(getOfDevice, "vkGetDeviceProcAddr");
        if (!properties || !families_ || !getOfDevice) return;
        physical_ = physical;
        VkPhysicalDeviceProperties about{};
        properties(physical, &about);
        nsPerTick_ = about.limits.timestampPeriod;
        const auto find = [&](auto& to, const char* name) {
            to = reinterpret_cast<std::decay_t<decltype(to)> >(getOfDevice(device, name));
            return to != nullptr;
        };
        works_ = find(createQueryPool_, "vkCreateQueryPool") && find(destroyQueryPool_, "vkDestroyQueryPool") &&
                 find(results_, "vkGetQueryPoolResults") && find(reset_, "vkCmdResetQueryPool") &&
                 find(write_, "vkCmdWriteTimestamp") && nsPerTick_ > 0;
        find(calibrated_, "vkGetCalibratedTimestampsEXT");
    }
    VulkanDevice(const VulkanDevice&) = delete;
    VulkanDevice& operator=(const VulkanDevice&) = delete;

    /// How many bits of its time a family tells of work that marks can be put into; 0: none.
    uint32_t bitsOf(uint32_t family) const {
        if (!works_) return 0;
        uint32_t count = 0;
        families_(physical_, &count, nullptr);
        std::vector<VkQueueFamilyProperties> all(count);
        families_(physical_, &count, all.data());
        const bool can = family < count && (all[family].queueFlags & (VK_QUEUE_GRAPHICS_BIT | VK_QUEUE_COMPUTE_BIT));
        return can ? all[family].timestampValidBits : 0;
    }

private:
    friend class VulkanQueue;
    friend class VulkanCommands;

    uint64_t now() const {
        VkCalibratedTimestampInfoEXT info{};
        info.sType = VK_STRUCTURE_TYPE_CALIBRATED_TIMESTAMP_INFO_EXT;
        info.timeDomain = VK_TIME_DOMAIN_DEVICE_EXT;
        uint64_t ticks = 0, deviation = 0;
        calibrated_(device_, 1, &info, &ticks, &deviation);
        return ticks;
    }

    const VkDevice device_;
    VkPhysicalDevice physical_ = VK_NULL_HANDLE;
    double nsPerTick_ = 1;
    bool works_ = false;
    PFN_vkGetPhysicalDeviceQueueFamilyProperties families_ = nullptr;
    PFN_vkCreateQueryPool createQueryPool_ = nullptr;
    PFN_vkDestroyQueryPool destroyQueryPool_ = nullptr;
    PFN_vkGetQueryPoolResults results_ = nullptr;
    PFN_vkCmdResetQueryPool reset_ = nullptr;
    PFN_vkCmdWriteTimestamp write_ = nullptr;
    PFN_vkGetCalibratedTimestampsEXT calibrated_ = nullptr;
};

/// A queue, as a lane.
class VulkanQueue {
public:
    VulkanQueue(VulkanDevice& device, uint32_t family, const char* name) noexcept
        : device_(device), queue_(name, name, device.nsPerTick_, device.bitsOf(family)) {}
    inline ~VulkanQueue();
    VulkanQueue(const VulkanQueue&) = delete;
    VulkanQueue& operator=(const VulkanQueue&) = delete;

    /// A command buffer is about to be submitted, by the calling thread. `outer`: what its outermost mark is called
    /// this time; null: as it was begun.
    inline void submitted(VulkanCommands& commands, fug_site* outer = nullptr);
    /// Tells what the device has finished. Once a frame.
    inline void collect();
    /// As those of DeviceQueue.
    uint64_t finishedSince(int64_t ns) const noexcept { return queue_.finishedSince(ns); }
    int64_t finishedNs() const noexcept { return queue_.finishedNs(); }

private:
    friend class VulkanCommands;
    static constexpr size_t kMostWaiting = 512;
    static constexpr int64_t kClockDoubtNs = 1'000'000, kLookNs = 1'000'000'000;
    static constexpr uint32_t kFirstLooks = 12;
    static constexpr double kMostDrift = 0.0002;
    struct Submission {
        VulkanCommands* commands;
        DeviceWork work;
        uint64_t hostTicks;
    };
    inline bool read(Submission& submission);
    inline void forget(const VulkanCommands& commands);
    /// Without calibrated timestamps: the device cannot have begun before it was asked to, so its clock is set, once a
    /// second, by what began soonest after that. Where the device was busy all the second long, it is left as it is.
    void lookAtClock(const Submission& submission) {
        const DeviceInstant asked{submission.work.stamps[0].ticks, submission.hostTicks, submission.work.firstNs};
        const double zeroNs =
            static_cast<double>(asked.ns) - static_cast<double>(asked.deviceTicks) * device_.nsPerTick_;
        if (!looked_ || zeroNs > soonestNs_) {
            soonest_ = asked;
            soonestNs_ = zeroNs;
        }
        ++looked_;
        const bool first = !setNs_;
        if (first ? looked_ < kFirstLooks : asked.ns - setNs_ < kLookNs) return;
        looked_ = 0;
        if (!first && soonestNs_ < setZeroNs_ - static_cast<double>(asked.ns - setNs_) * kMostDrift) return;
        queue_.sync(soonest_);
        setNs_ = soonest_.ns;
        setZeroNs_ = soonestNs_;
    }

    VulkanDevice& device_;
    DeviceQueue queue_;
    std::deque<Submission> waiting_;
    std::vector<DeviceWork> early_;  // finished before the clock was set
    DeviceInstant soonest_;          // of those looked at since it was set
    double soonestNs_ = 0, setZeroNs_ = 0;
    int64_t setNs_ = 0;
    uint32_t looked_ = 0;
};

/// The times of one command buffer.
class VulkanCommands {
public:
    /// Beyond so many marks of a command buffer the rest is left out.
    static constexpr uint32_t kMostMarks = 128;

    /// For a command buffer of queues of that family.
    VulkanCommands(VulkanDevice& device, uint32_t family) noexcept
        : device_(device), works_(device.bitsOf(family) > 0) {}
    ~VulkanCommands() {
        if (in_) in_->forget(*this);
        if (pool_) device_.destroyQueryPool_(device_.device_, pool_, nullptr);
    }
    VulkanCommands(const VulkanCommands&) = delete;
    VulkanCommands& operator=(const VulkanCommands&) = delete;

    /// Right after vkBeginCommandBuffer, outside of render passes: the outermost mark begins.
    void begin(VkCommandBuffer commands, fug_site& outermost) {
        stamps_.clear();
        depth_ = 0;
        commands_ = fug_recording() && works_ ? commands : VK_NULL_HANDLE;
        if (!commands_) return;
        if (!pool_) {
            VkQueryPoolCreateInfo info{};
            info.sType = VK_STRUCTURE_TYPE_QUERY_POOL_CREATE_INFO;
            info.queryType = VK_QUERY_TYPE_TIMESTAMP;
            info.queryCount = kQueries;
            if (device_.createQueryPool_(device_.device_, &info, nullptr, &pool_) != VK_SUCCESS) pool_ = VK_NULL_HANDLE;
        }
        if (!pool_) {
            commands_ = VK_NULL_HANDLE;
            return;
        }
        device_.reset_(commands_, pool_, 0, kQueries);
        begin(outermost);
    }
    /// A mark within it begins; returns whether it is recorded, for end().
    bool begin(fug_site& site) {
        if (!commands_ || stamps_.size() + depth_ + 2 > kQueries) return false;
        ++depth_;
        stamp(&site);
        return true;
    }
    void end(bool began = true) {
        if (!began || !commands_ || depth_ == 0) return;
        --depth_;
        stamp(nullptr);
    }
    /// How many marks are open.
    uint32_t depth() const noexcept { return depth_; }

private:
    friend class VulkanQueue;
    static constexpr uint32_t kQueries = 2 * kMostMarks;

    void stamp(fug_site* site) {
        const auto query = static_cast<uint32_t>(stamps_.size());
        device_.write_(commands_, VK_PIPELINE_STAGE_BOTTOM_OF_PIPE_BIT, pool_, query);
        stamps_.push_back({site, query, 0});
    }

    VulkanDevice& device_;
    const bool works_;
    VkCommandBuffer commands_ = VK_NULL_HANDLE;  // null: not recorded
    VkQueryPool pool_ = VK_NULL_HANDLE;
    std::vector<DeviceWork::Stamp> stamps_;
    uint32_t depth_ = 0;
    VulkanQueue* in_ = nullptr;  // where it is waited for
    uint64_t lastBegan_ = 0;     // when it was at work before, by the device's clock
};

VulkanQueue::~VulkanQueue() {
    for (Submission& one : waiting_) one.commands->in_ = nullptr;
}

void VulkanQueue::forget(const VulkanCommands& commands) {
    for (auto one = waiting_.begin(); one != waiting_.end();)
        one = one->commands == &commands ? waiting_.erase(one) : one + 1;
}

void VulkanQueue::submitted(VulkanCommands& commands, fug_site* outer) {
    if (!commands.commands_ || commands.stamps_.empty() || commands.depth_ || !fug_recording()) return;
    if (commands.in_) commands.in_->forget(commands);  // its times are about to be replaced
    commands.in_ = this;
    waiting_.push_back({&commands, {}, fug_now()});
    DeviceWork& work = waiting_.back().work;
    work.stamps = commands.stamps_;
    if (outer) work.stamps[0].site = outer;
    work.askFirst();
    work.lastAsked = work.firstAsked;
    work.lastNs = work.firstNs;
}

/// Returns whether all of its times are there.
bool VulkanQueue::read(Submission& submission) {
    auto& stamps = submission.work.stamps;
    struct Told {
        uint64_t ticks, there;
    } told[VulkanCommands::kQueries];
    const VkResult result =
        device_.results_(device_.device_, submission.commands->pool_, 0, static_cast<uint32_t>(stamps.size()),
                         stamps.size() * sizeof *told, told, sizeof *told,
                         VK_QUERY_RESULT_64_BIT | VK_QUERY_RESULT_WITH_AVAILABILITY_BIT);
    if (result != VK_SUCCESS && result != VK_NOT_READY) return false;
    for (size_t i = 0; i < stamps.size(); ++i) {
        if (!told[i].there) return false;
        stamps[i].ticks = told[i].ticks;
    }
    // Until the device comes to it, the times are those of the time before.
    if (stamps[0].ticks == submission.commands->lastBegan_) return false;
    return !device_.calibrated_ || queue_.nsOf(stamps[0].ticks) > submission.work.firstNs - kClockDoubtNs;
}

void VulkanQueue::collect() {
    if (!waiting_.empty() && device_.calibrated_ && queue_.syncIsDue(monotonicNs()))
        queue_.sync(readDeviceClock([this] { return device_.now(); }));
    while (!waiting_.empty()) {
        if (!read(waiting_.front())) {
            if (waiting_.size() <= kMostWaiting) return;
            waiting_.front().commands->in_ = nullptr;  // it was never submitted
            waiting_.pop_front();
            continue;
        }
        Submission& one = waiting_.front();
        if (!device_.calibrated_) lookAtClock(one);
        one.commands->lastBegan_ = one.work.stamps[0].ticks;
        one.commands->in_ = nullptr;
        early_.push_back(std::move(one.work));
        waiting_.pop_front();
        if (!queue_.isSet()) continue;
        for (DeviceWork& work : early_) queue_.tell(work);
        early_.clear();
    }
}

/// A mark of the device's work that lasts as long as the object. Use FUG_VULKAN_MARK.
class VulkanMark {
public:
    VulkanMark(VulkanCommands& commands, fug_site& site) : commands_(commands), began_(commands.begin(site)) {}
    ~VulkanMark() { commands_.end(began_); }
    VulkanMark(const VulkanMark&) = delete;
    VulkanMark& operator=(const VulkanMark&) = delete;

private:
    VulkanCommands& commands_;
    const bool began_;
};

}  // namespace fug

/// What the device does for the commands until the end of the block: FUG_VULKAN_MARK(commands, "name"[, "category"[,
/// "description"]]).
#define FUG_VULKAN_MARK(commands, ...) FUG_VULKAN_MARK_NUMBERED(__COUNTER__, commands, __VA_ARGS__)
#define FUG_VULKAN_MARK_NUMBERED(number, commands, ...)          \
    FUG_SITE_HERE(FUG_JOIN(fugVulkanSite, number), __VA_ARGS__); \
    const ::fug::VulkanMark FUG_JOIN(fugVulkanMark, number)(commands, FUG_JOIN(fugVulkanSite, number))
#endif
