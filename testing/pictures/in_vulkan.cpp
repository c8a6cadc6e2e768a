// SPDX-License-Identifier: GPL-3.0-or-later
#define VK_NO_PROTOTYPES
#include <dlfcn.h>
#include <vulkan/vulkan_core.h>

#include <cstdint>

#include "on_device.h"

namespace {

/// Fills a buffer, again and again.
class InVulkan final : public OnDevice {
public:
    ~InVulkan() override {
        if (device_) {
            of<PFN_vkDeviceWaitIdle>("vkDeviceWaitIdle")(device_);
            of<PFN_vkDestroyFence>("vkDestroyFence")(device_, fence_, nullptr);
            of<PFN_vkDestroyCommandPool>("vkDestroyCommandPool")(device_, pool_, nullptr);
            of<PFN_vkDestroyBuffer>("vkDestroyBuffer")(device_, buffer_, nullptr);
            of<PFN_vkFreeMemory>("vkFreeMemory")(device_, memory_, nullptr);
            of<PFN_vkDestroyDevice>("vkDestroyDevice")(device_, nullptr);
        }
        if (instance_) of<PFN_vkDestroyInstance>("vkDestroyInstance")(instance_, nullptr);
    }

    bool open() {
        void* const library = dlopen("libvulkan.so.1", RTLD_NOW);
        if (!library) return false;
        get_ = reinterpret_cast<PFN_vkGetInstanceProcAddr>(dlsym(library, "vkGetInstanceProcAddr"));
        const char* const labels = VK_EXT_DEBUG_UTILS_EXTENSION_NAME;
        VkInstanceCreateInfo instance{};
        instance.sType = VK_STRUCTURE_TYPE_INSTANCE_CREATE_INFO;
        instance.enabledExtensionCount = 1;
        instance.ppEnabledExtensionNames = &labels;
        if (of<PFN_vkCreateInstance>("vkCreateInstance")(&instance, nullptr, &instance_) != VK_SUCCESS) return false;
        uint32_t one = 1;
        VkPhysicalDevice physical = VK_NULL_HANDLE;
        of<PFN_vkEnumeratePhysicalDevices>("vkEnumeratePhysicalDevices")(instance_, &one, &physical);
        if (!physical) return false;
        const float priority = 1;
        VkDeviceQueueCreateInfo queue{};
        queue.sType = VK_STRUCTURE_TYPE_DEVICE_QUEUE_CREATE_INFO;
        queue.queueCount = 1;
        queue.pQueuePriorities = &priority;
        VkDeviceCreateInfo device{};
        device.sType = VK_STRUCTURE_TYPE_DEVICE_CREATE_INFO;
        device.queueCreateInfoCount = 1;
        device.pQueueCreateInfos = &queue;
        if (of<PFN_vkCreateDevice>("vkCreateDevice")(physical, &device, nullptr, &device_) != VK_SUCCESS) return false;
        of<PFN_vkGetDeviceQueue>("vkGetDeviceQueue")(device_, 0, 0, &queue_);
        return makeBuffer() && makeCommands();
    }

    void draw(int sprays) override {
        VkCommandBufferBeginInfo begin{};
        begin.sType = VK_STRUCTURE_TYPE_COMMAND_BUFFER_BEGIN_INFO;
        of<PFN_vkBeginCommandBuffer>("vkBeginCommandBuffer")(commands_, &begin);
        fill("Water", 1);
        fill("Spray", sprays);
        of<PFN_vkEndCommandBuffer>("vkEndCommandBuffer")(commands_);
        VkSubmitInfo submit{};
        submit.sType = VK_STRUCTURE_TYPE_SUBMIT_INFO;
        submit.commandBufferCount = 1;
        submit.pCommandBuffers = &commands_;
        of<PFN_vkResetFences>("vkResetFences")(device_, 1, &fence_);
        of<PFN_vkQueueSubmit>("vkQueueSubmit")(queue_, 1, &submit, fence_);
        of<PFN_vkWaitForFences>("vkWaitForFences")(device_, 1, &fence_, VK_TRUE, UINT64_MAX);
    }

private:
    static constexpr VkDeviceSize kBytes = 1 << 20;

    template <class Function>
    Function of(const char* name) {
        return reinterpret_cast<Function>(get_(instance_, name));
    }
    bool makeBuffer() {
        VkBufferCreateInfo buffer{};
        buffer.sType = VK_STRUCTURE_TYPE_BUFFER_CREATE_INFO;
        buffer.size = kBytes;
        buffer.usage = VK_BUFFER_USAGE_TRANSFER_DST_BIT;
        if (of<PFN_vkCreateBuffer>("vkCreateBuffer")(device_, &buffer, nullptr, &buffer_) != VK_SUCCESS) return false;
        VkMemoryRequirements needs{};
        of<PFN_vkGetBufferMemoryRequirements>("vkGetBufferMemoryRequirements")(device_, buffer_, &needs);
        VkMemoryAllocateInfo memory{};
        memory.sType = VK_STRUCTURE_TYPE_MEMORY_ALLOCATE_INFO;
        memory.allocationSize = needs.size;
        while (!(needs.memoryTypeBits >> memory.memoryTypeIndex & 1)) ++memory.memoryTypeIndex;
        return of<PFN_vkAllocateMemory>("vkAllocateMemory")(device_, &memory, nullptr, &memory_) == VK_SUCCESS &&
               of<PFN_vkBindBufferMemory>("vkBindBufferMemory")(device_, buffer_, memory_, 0) == VK_SUCCESS;
    }
    bool makeCommands() {
        VkCommandPoolCreateInfo pool{};
        pool.sType = VK_STRUCTURE_TYPE_COMMAND_POOL_CREATE_INFO;
        pool.flags = VK_COMMAND_POOL_CREATE_RESET_COMMAND_BUFFER_BIT;
        of<PFN_vkCreateCommandPool>("vkCreateCommandPool")(device_, &pool, nullptr, &pool_);
        VkCommandBufferAllocateInfo commands{};
        commands.sType = VK_STRUCTURE_TYPE_COMMAND_BUFFER_ALLOCATE_INFO;
        commands.commandPool = pool_;
        commands.commandBufferCount = 1;
        of<PFN_vkAllocateCommandBuffers>("vkAllocateCommandBuffers")(device_, &commands, &commands_);
        VkFenceCreateInfo fence{};
        fence.sType = VK_STRUCTURE_TYPE_FENCE_CREATE_INFO;
        return of<PFN_vkCreateFence>("vkCreateFence")(device_, &fence, nullptr, &fence_) == VK_SUCCESS;
    }
    void fill(const char* name, int times) {
        VkDebugUtilsLabelEXT label{};
        label.sType = VK_STRUCTURE_TYPE_DEBUG_UTILS_LABEL_EXT;
        label.pLabelName = name;
        of<PFN_vkCmdBeginDebugUtilsLabelEXT>("vkCmdBeginDebugUtilsLabelEXT")(commands_, &label);
        for (int i = 0; i < times; ++i)
            of<PFN_vkCmdFillBuffer>("vkCmdFillBuffer")(commands_, buffer_, 0, kBytes, static_cast<uint32_t>(i));
        of<PFN_vkCmdEndDebugUtilsLabelEXT>("vkCmdEndDebugUtilsLabelEXT")(commands_);
    }

    PFN_vkGetInstanceProcAddr get_ = nullptr;
    VkInstance instance_ = VK_NULL_HANDLE;
    VkDevice device_ = VK_NULL_HANDLE;
    VkQueue queue_ = VK_NULL_HANDLE;
    VkBuffer buffer_ = VK_NULL_HANDLE;
    VkDeviceMemory memory_ = VK_NULL_HANDLE;
    VkCommandPool pool_ = VK_NULL_HANDLE;
    VkCommandBuffer commands_ = VK_NULL_HANDLE;
    VkFence fence_ = VK_NULL_HANDLE;
};

}  // namespace

std::unique_ptr<OnDevice> inVulkan() {
    auto made = std::make_unique<InVulkan>();
    if (!made->open()) return nullptr;
    return made;
}
