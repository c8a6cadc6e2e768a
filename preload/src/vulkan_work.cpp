// SPDX-License-Identifier: GPL-3.0-or-later
#include "vulkan_work.hpp"

#include <cstdio>
#include <cstring>
#include <fugato/vulkan.hpp>
#include <memory>
#include <unordered_map>
#include <vector>

#include "hook.hpp"
#include "lookups.hpp"
#include "presents.hpp"

namespace fugato::preload {

namespace {

fug_site kCommands = PLACELESS_SITE("Commands", "gpu", "What the device does for one command buffer");
constexpr char kBothClocks[] = "VK_EXT_calibrated_timestamps";

struct Device {
    std::unique_ptr<fug::VulkanDevice> times;
    std::vector<VkQueueFamilyProperties> families;
};
struct Queue {
    VkDevice device = VK_NULL_HANDLE;
    std::string name;
    std::unique_ptr<fug::VulkanQueue> times;
    std::vector<fug_site*> labels;  // that are open
};
struct Pool {
    VkDevice device = VK_NULL_HANDLE;
    uint32_t family = 0;
};
struct Commands {
    VkCommandPool pool = VK_NULL_HANDLE;
    std::unique_ptr<fug::VulkanCommands> times;
    std::vector<std::pair<int, bool>> labels;  // that are open: of the thread, of the device
};

/// All that is known of Vulkan's objects.
struct Known {
    std::mutex mutex;
    VkInstance instance = VK_NULL_HANDLE;  // the last
    std::unordered_map<VkDevice, Device> devices;
    std::unordered_map<VkQueue, Queue> queues;
    std::unordered_map<VkCommandPool, Pool> pools;
    std::unordered_map<VkCommandBuffer, Commands> commands;
};
Known& known() {
    static auto* const all = new Known;  // never destroyed: threads may outlive it
    return *all;
}
std::atomic<bool> anyQueue{false};

template <class Map>
auto* in(Map& map, const typename Map::key_type& key) {
    const auto found = map.find(key);
    return found == map.end() ? nullptr : &found->second;
}

template <class Function>
Function ofInstance(VkInstance instance, const char* name) {
    return reinterpret_cast<Function>(real_vkGetInstanceProcAddr.get()(instance, name));
}

bool canReadBothClocks(VkInstance instance, VkPhysicalDevice physical) {
    const auto list =
        ofInstance<PFN_vkEnumerateDeviceExtensionProperties>(instance, "vkEnumerateDeviceExtensionProperties");
    uint32_t count = 0;
    if (!list || list(physical, nullptr, &count, nullptr) != VK_SUCCESS) return false;
    std::vector<VkExtensionProperties> all(count);
    list(physical, nullptr, &count, all.data());
    for (const VkExtensionProperties& one : all)
        if (std::strcmp(one.extensionName, kBothClocks) == 0) return true;
    return false;
}

void addQueue(VkDevice device, uint32_t family, VkQueue queue) {
    if (!queue) return;
    Known& k = known();
    const KeepErrno keep;
    const OwnLock guard(k.mutex);
    const Device* const of = in(k.devices, device);
    if (!of || k.queues.count(queue) || !of->times->bitsOf(family)) return;
    Queue& added = k.queues[queue];
    added.device = device;
    const VkQueueFlags can = of->families[family].queueFlags;
    added.name = can & VK_QUEUE_GRAPHICS_BIT ? "GPU graphics" : "GPU compute";
    size_t like = 0;
    for (const auto& other : k.queues) like += other.second.name.compare(0, added.name.size(), added.name) == 0;
    if (like > 1) added.name += " " + std::to_string(like);
    added.times = std::make_unique<fug::VulkanQueue>(*of->times, family, added.name.c_str());
    anyQueue.store(true);
}

/// Command buffers go to the device, in that order: `each(take)` calls take(command buffer).
template <class Each>
void submitted(VkQueue queue, Each&& each) {
    if (!recorded()) return;
    Known& k = known();
    const KeepErrno keep;
    const OwnLock guard(k.mutex);
    Queue* const to = in(k.queues, queue);
    if (!to) return;
    each([&](VkCommandBuffer commands) {
        if (Commands* const one = in(k.commands, commands))
            to->times->submitted(*one->times, to->labels.empty() ? nullptr : to->labels.back());
    });
}
void submitted2(VkQueue queue, uint32_t count, const VkSubmitInfo2* submits) {
    submitted(queue, [&](auto&& take) {
        for (uint32_t i = 0; i < count; ++i)
            for (uint32_t j = 0; j < submits[i].commandBufferInfoCount; ++j)
                take(submits[i].pCommandBufferInfos[j].commandBuffer);
    });
}

std::string_view nameOf(const VkDebugUtilsLabelEXT* label) {
    return label && label->pLabelName ? label->pLabelName : "";
}

}  // namespace

uint64_t finishedVulkanWork(int64_t ns) {
    if (!anyQueue.load(std::memory_order_relaxed)) return 0;
    Known& k = known();
    const KeepErrno keep;
    const OwnLock guard(k.mutex);
    uint64_t link = 0;
    int64_t last = INT64_MIN;
    for (auto& [handle, queue] : k.queues) {
        queue.times->collect();
        const uint64_t its = queue.times->finishedSince(ns);
        if (!its || queue.times->finishedNs() < last) continue;
        link = its;
        last = queue.times->finishedNs();
    }
    return link;
}

}  // namespace fugato::preload

using namespace fugato::preload;

// ---- devices and queues --------------------------------------------------------------------------------

FUGATO_STANDS_IN VkResult vkCreateInstance(const VkInstanceCreateInfo* info, const VkAllocationCallbacks* memory,
                                           VkInstance* made) {
    const VkResult result = real_vkCreateInstance.get()(info, memory, made);
    if (result == VK_SUCCESS) {
        const OwnLock guard(known().mutex);
        known().instance = *made;
    }
    return result;
}

FUGATO_STANDS_IN VkResult vkCreateDevice(VkPhysicalDevice physical, const VkDeviceCreateInfo* info,
                                         const VkAllocationCallbacks* memory, VkDevice* made) {
    Known& k = known();
    VkInstance instance = VK_NULL_HANDLE;
    {
        const OwnLock guard(k.mutex);
        instance = k.instance;
    }
    if (!instance || !real_vkGetInstanceProcAddr.get()) return real_vkCreateDevice.get()(physical, info, memory, made);
    VkDeviceCreateInfo more = *info;
    std::vector<const char*> extensions(info->ppEnabledExtensionNames,
                                        info->ppEnabledExtensionNames + info->enabledExtensionCount);
    bool bothClocks = false;
    for (const char* one : extensions) bothClocks = bothClocks || std::strcmp(one, kBothClocks) == 0;
    if (!bothClocks && canReadBothClocks(instance, physical)) extensions.push_back(kBothClocks);
    more.ppEnabledExtensionNames = extensions.data();
    more.enabledExtensionCount = static_cast<uint32_t>(extensions.size());
    VkResult result = real_vkCreateDevice.get()(physical, &more, memory, made);
    if (result != VK_SUCCESS) result = real_vkCreateDevice.get()(physical, info, memory, made);
    if (result != VK_SUCCESS) return result;
    const KeepErrno keep;
    Device device;
    device.times = std::make_unique<fug::VulkanDevice>(
        instance, physical, *made, reinterpret_cast<PFN_vkGetInstanceProcAddr>(real_vkGetInstanceProcAddr.get()));
    const auto families =
        ofInstance<PFN_vkGetPhysicalDeviceQueueFamilyProperties>(instance, "vkGetPhysicalDeviceQueueFamilyProperties");
    uint32_t count = 0;
    families(physical, &count, nullptr);
    device.families.resize(count);
    families(physical, &count, device.families.data());
    const OwnLock guard(k.mutex);
    k.devices[*made] = std::move(device);
    return result;
}

FUGATO_STANDS_IN void vkDestroyDevice(VkDevice device, const VkAllocationCallbacks* memory) {
    Known& k = known();
    if (device) {
        const OwnLock guard(k.mutex);
        const auto drop = [](auto& map, auto&& goes) {
            for (auto one = map.begin(); one != map.end();) one = goes(one->second) ? map.erase(one) : std::next(one);
        };
        drop(k.commands, [&](const Commands& one) {
            const Pool* const pool = in(k.pools, one.pool);
            return pool && pool->device == device;
        });
        drop(k.queues, [&](const Queue& one) { return one.device == device; });
        drop(k.pools, [&](const Pool& one) { return one.device == device; });
        k.devices.erase(device);
    }
    real_vkDestroyDevice.get(device)(device, memory);
}

FUGATO_STANDS_IN VkResult vkCreateSwapchainKHR(VkDevice device, const VkSwapchainCreateInfoKHR* info,
                                               const VkAllocationCallbacks* memory, VkSwapchainKHR* made) {
    const VkPresentModeKHR mode = info->presentMode;
    setSwapInterval(mode == VK_PRESENT_MODE_FIFO_KHR || mode == VK_PRESENT_MODE_FIFO_RELAXED_KHR);
    return real_vkCreateSwapchainKHR.get(device)(device, info, memory, made);
}

FUGATO_STANDS_IN void vkGetDeviceQueue(VkDevice device, uint32_t family, uint32_t index, VkQueue* queue) {
    real_vkGetDeviceQueue.get(device)(device, family, index, queue);
    addQueue(device, family, *queue);
}
FUGATO_STANDS_IN void vkGetDeviceQueue2(VkDevice device, const VkDeviceQueueInfo2* info, VkQueue* queue) {
    real_vkGetDeviceQueue2.get(device)(device, info, queue);
    addQueue(device, info->queueFamilyIndex, *queue);
}

// ---- command buffers -----------------------------------------------------------------------------------

FUGATO_STANDS_IN VkResult vkCreateCommandPool(VkDevice device, const VkCommandPoolCreateInfo* info,
                                              const VkAllocationCallbacks* memory, VkCommandPool* made) {
    const VkResult result = real_vkCreateCommandPool.get(device)(device, info, memory, made);
    if (result == VK_SUCCESS) {
        const OwnLock guard(known().mutex);
        known().pools[*made] = {device, info->queueFamilyIndex};
    }
    return result;
}
FUGATO_STANDS_IN void vkDestroyCommandPool(VkDevice device, VkCommandPool pool, const VkAllocationCallbacks* memory) {
    {
        Known& k = known();
        const OwnLock guard(k.mutex);
        for (auto one = k.commands.begin(); one != k.commands.end();)
            one = one->second.pool == pool ? k.commands.erase(one) : std::next(one);
        k.pools.erase(pool);
    }
    real_vkDestroyCommandPool.get(device)(device, pool, memory);
}
FUGATO_STANDS_IN VkResult vkAllocateCommandBuffers(VkDevice device, const VkCommandBufferAllocateInfo* info,
                                                   VkCommandBuffer* made) {
    const VkResult result = real_vkAllocateCommandBuffers.get(device)(device, info, made);
    if (result != VK_SUCCESS || info->level != VK_COMMAND_BUFFER_LEVEL_PRIMARY) return result;
    Known& k = known();
    const OwnLock guard(k.mutex);
    const Device* const of = in(k.devices, device);
    const Pool* const pool = in(k.pools, info->commandPool);
    if (!of || !pool || !of->times->bitsOf(pool->family)) return result;
    for (uint32_t i = 0; i < info->commandBufferCount; ++i) {
        Commands& one = k.commands[made[i]];
        one.pool = info->commandPool;
        one.times = std::make_unique<fug::VulkanCommands>(*of->times, pool->family);
    }
    return result;
}
FUGATO_STANDS_IN void vkFreeCommandBuffers(VkDevice device, VkCommandPool pool, uint32_t count,
                                           const VkCommandBuffer* commands) {
    {
        const OwnLock guard(known().mutex);
        for (uint32_t i = 0; i < count; ++i) known().commands.erase(commands[i]);
    }
    real_vkFreeCommandBuffers.get(device)(device, pool, count, commands);
}
FUGATO_STANDS_IN VkResult vkBeginCommandBuffer(VkCommandBuffer commands, const VkCommandBufferBeginInfo* info) {
    const VkResult result = real_vkBeginCommandBuffer.get(commands)(commands, info);
    if (result != VK_SUCCESS) return result;
    const OwnLock guard(known().mutex);
    Commands* const one = in(known().commands, commands);
    if (!one) return result;
    one->labels.clear();
    one->times->begin(commands, kCommands);
    return result;
}
FUGATO_STANDS_IN VkResult vkEndCommandBuffer(VkCommandBuffer commands) {
    {
        const OwnLock guard(known().mutex);
        if (Commands* const one = in(known().commands, commands))
            while (one->times->depth()) one->times->end();
    }
    return real_vkEndCommandBuffer.get(commands)(commands);
}

// ---- labels --------------------------------------------------------------------------------------------

FUGATO_STANDS_IN void vkCmdBeginDebugUtilsLabelEXT(VkCommandBuffer commands, const VkDebugUtilsLabelEXT* label) {
    fug_site* const site = recorded() ? &siteNamed(nameOf(label)) : nullptr;
    {
        const KeepErrno keep;
        const int began = site ? fug_begin(site) : 0;
        const OwnLock guard(known().mutex);
        if (Commands* const one = in(known().commands, commands))
            one->labels.emplace_back(began, site && one->times->begin(*site));
        else
            fug_end(began);  // a secondary one: where its end is not known
    }
    real_vkCmdBeginDebugUtilsLabelEXT.get(commands)(commands, label);
}
FUGATO_STANDS_IN void vkCmdEndDebugUtilsLabelEXT(VkCommandBuffer commands) {
    {
        const KeepErrno keep;
        const OwnLock guard(known().mutex);
        Commands* const one = in(known().commands, commands);
        if (one && !one->labels.empty()) {
            const auto [began, onDevice] = one->labels.back();
            one->labels.pop_back();
            one->times->end(onDevice && one->times->depth() > 1);
            fug_end(began);
        }
    }
    real_vkCmdEndDebugUtilsLabelEXT.get(commands)(commands);
}
FUGATO_STANDS_IN void vkQueueBeginDebugUtilsLabelEXT(VkQueue queue, const VkDebugUtilsLabelEXT* label) {
    fug_site& site = siteNamed(nameOf(label));
    {
        const OwnLock guard(known().mutex);
        if (Queue* const one = in(known().queues, queue)) one->labels.push_back(&site);
    }
    real_vkQueueBeginDebugUtilsLabelEXT.get(queue)(queue, label);
}
FUGATO_STANDS_IN void vkQueueEndDebugUtilsLabelEXT(VkQueue queue) {
    {
        const OwnLock guard(known().mutex);
        Queue* const one = in(known().queues, queue);
        if (one && !one->labels.empty()) one->labels.pop_back();
    }
    real_vkQueueEndDebugUtilsLabelEXT.get(queue)(queue);
}

// ---- submissions ---------------------------------------------------------------------------------------

FUGATO_STANDS_IN VkResult vkQueueSubmit(VkQueue queue, uint32_t count, const VkSubmitInfo* submits, VkFence fence) {
    submitted(queue, [&](auto&& take) {
        for (uint32_t i = 0; i < count; ++i)
            for (uint32_t j = 0; j < submits[i].commandBufferCount; ++j) take(submits[i].pCommandBuffers[j]);
    });
    return real_vkQueueSubmit.get(queue)(queue, count, submits, fence);
}
FUGATO_STANDS_IN VkResult vkQueueSubmit2(VkQueue queue, uint32_t count, const VkSubmitInfo2* submits, VkFence fence) {
    submitted2(queue, count, submits);
    return real_vkQueueSubmit2.get(queue)(queue, count, submits, fence);
}
FUGATO_STANDS_IN VkResult vkQueueSubmit2KHR(VkQueue queue, uint32_t count, const VkSubmitInfo2* submits,
                                            VkFence fence) {
    submitted2(queue, count, submits);
    return real_vkQueueSubmit2KHR.get(queue)(queue, count, submits, fence);
}
