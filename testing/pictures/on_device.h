// SPDX-License-Identifier: GPL-3.0-or-later
//
// Work for the device, named as programs do: "Water", and "Spray" as often as is asked for.
#pragma once

#include <memory>

class OnDevice {
public:
    virtual ~OnDevice() = default;
    virtual void draw(int sprays) = 0;
};

/// With an OpenGL context of SDL current; its groups are named by KHR_debug.
std::unique_ptr<OnDevice> inOpenGl();
/// Labels by VK_EXT_debug_utils. Null where there is no Vulkan.
std::unique_ptr<OnDevice> inVulkan();
