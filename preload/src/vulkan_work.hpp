// SPDX-License-Identifier: GPL-3.0-or-later
//
// What Vulkan does on the device for an unmodified program, as a lane for each queue: its command buffers, and within
// them the labels that the program gives (VK_EXT_debug_utils). Times by fugato/vulkan.hpp.
#pragma once

#define VK_NO_PROTOTYPES
#include <vulkan/vulkan_core.h>

#include "real_function.hpp"

extern "C" {
VkResult vkCreateInstance(const VkInstanceCreateInfo* info, const VkAllocationCallbacks* memory, VkInstance* made);
VkResult vkCreateDevice(VkPhysicalDevice physical, const VkDeviceCreateInfo* info, const VkAllocationCallbacks* memory,
                        VkDevice* made);
void vkDestroyDevice(VkDevice device, const VkAllocationCallbacks* memory);
VkResult vkCreateSwapchainKHR(VkDevice device, const VkSwapchainCreateInfoKHR* info,
                              const VkAllocationCallbacks* memory, VkSwapchainKHR* made);
void vkGetDeviceQueue(VkDevice device, uint32_t family, uint32_t index, VkQueue* queue);
void vkGetDeviceQueue2(VkDevice device, const VkDeviceQueueInfo2* info, VkQueue* queue);
VkResult vkCreateCommandPool(VkDevice device, const VkCommandPoolCreateInfo* info, const VkAllocationCallbacks* memory,
                             VkCommandPool* made);
void vkDestroyCommandPool(VkDevice device, VkCommandPool pool, const VkAllocationCallbacks* memory);
VkResult vkAllocateCommandBuffers(VkDevice device, const VkCommandBufferAllocateInfo* info, VkCommandBuffer* made);
void vkFreeCommandBuffers(VkDevice device, VkCommandPool pool, uint32_t count, const VkCommandBuffer* commands);
VkResult vkBeginCommandBuffer(VkCommandBuffer commands, const VkCommandBufferBeginInfo* info);
VkResult vkEndCommandBuffer(VkCommandBuffer commands);
void vkCmdBeginDebugUtilsLabelEXT(VkCommandBuffer commands, const VkDebugUtilsLabelEXT* label);
void vkCmdEndDebugUtilsLabelEXT(VkCommandBuffer commands);
void vkQueueBeginDebugUtilsLabelEXT(VkQueue queue, const VkDebugUtilsLabelEXT* label);
void vkQueueEndDebugUtilsLabelEXT(VkQueue queue);
VkResult vkQueueSubmit(VkQueue queue, uint32_t count, const VkSubmitInfo* submits, VkFence fence);
VkResult vkQueueSubmit2(VkQueue queue, uint32_t count, const VkSubmitInfo2* submits, VkFence fence);
VkResult vkQueueSubmit2KHR(VkQueue queue, uint32_t count, const VkSubmitInfo2* submits, VkFence fence);
}

namespace fugato::preload {

// clang-format off
/// X(name): those of which there is one.
#define FUGATO_VULKAN_SET_UP(X) X(vkCreateInstance) X(vkCreateDevice)
/// Those that belong to one device, or a queue or command buffer of it.
#define FUGATO_VULKAN_WORK(X) \
    X(vkDestroyDevice) X(vkCreateSwapchainKHR) X(vkGetDeviceQueue) X(vkGetDeviceQueue2) X(vkCreateCommandPool) \
    X(vkDestroyCommandPool) X(vkAllocateCommandBuffers) X(vkFreeCommandBuffers) X(vkBeginCommandBuffer) \
    X(vkEndCommandBuffer) X(vkCmdBeginDebugUtilsLabelEXT) X(vkCmdEndDebugUtilsLabelEXT) \
    X(vkQueueBeginDebugUtilsLabelEXT) X(vkQueueEndDebugUtilsLabelEXT) X(vkQueueSubmit) X(vkQueueSubmit2) \
    X(vkQueueSubmit2KHR)
// clang-format on

#define X(name) inline RealFunction<decltype(::name)> real_##name(#name);
FUGATO_VULKAN_SET_UP(X)
#undef X
#define X(name) inline DeviceFunction<decltype(::name)> real_##name(#name);
FUGATO_VULKAN_WORK(X)
#undef X

/// Tells what all devices have finished; the link of what ended last since `ns` (CLOCK_MONOTONIC), or 0.
uint64_t finishedVulkanWork(int64_t ns);

}  // namespace fugato::preload
