// SPDX-License-Identifier: GPL-3.0-or-later
#include "settings.h"

namespace fugato::settings {

SystemLook& systemLook() {
    static SystemLook look;
    return look;
}

namespace {
const AdviceLimits kUsual;
Setting<qlonglong> slowFile() { return {"advice/slow file ns", kUsual.slowFile}; }
Setting<uint> allocations() { return {"advice/allocations", kUsual.allocations}; }
Setting<uint> messages() { return {"advice/messages", kUsual.messages}; }
}  // namespace

AdviceLimits adviceLimits() { return {slowFile().get(), allocations().get(), messages().get()}; }

void setAdviceLimits(const AdviceLimits& limits) {
    slowFile().set(limits.slowFile);
    allocations().set(limits.allocations);
    messages().set(limits.messages);
}

}  // namespace fugato::settings
