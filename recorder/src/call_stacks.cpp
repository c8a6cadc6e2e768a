// SPDX-License-Identifier: MIT
#include "call_stacks.hpp"

#include <link.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <cstring>

#include "recorder_state.hpp"

namespace fugato::recording {

using namespace layout;

namespace {
constexpr uint64_t kModulesEveryNs = 1'000'000'000;
}

PackedStack::PackedStack(const uint64_t* addresses, size_t count) {
    char* end = bytes_;
    uint64_t previous = 0;
    for (size_t i = 0; i < std::min(count, kMostStack); ++i) {
        end = putVarint(end, zigzag(static_cast<int64_t>(addresses[i] - previous)));
        previous = addresses[i];
    }
    size_ = static_cast<size_t>(end - bytes_);
}

void ProgramModules::tell(Recorder& r, uint64_t now, bool last) {
    if (!last && now - lastNs_ < kModulesEveryNs) return;
    lastNs_ = now;
    struct Visit {
        ProgramModules& self;
        Recorder& r;
        bool changed;
    } visit{*this, r, false};
    dl_iterate_phdr(
        [](dl_phdr_info* info, size_t, void* data) {
            auto& [self, target, changed] = *static_cast<Visit*>(data);
            const uint64_t changes = info->dlpi_adds + info->dlpi_subs;
            if (!changed && changes == self.changes_) return 1;
            changed = true;
            self.changes_ = changes;
            std::string path = info->dlpi_name ? info->dlpi_name : "", build;
            if (path.empty()) {
                char own[1024];
                const ssize_t size = readlink("/proc/self/exe", own, sizeof own);
                if (size > 0) path.assign(own, static_cast<size_t>(size));
            }
            for (int i = 0; i < info->dlpi_phnum; ++i) {
                const auto& segment = info->dlpi_phdr[i];
                if (segment.p_type != PT_NOTE) continue;
                const char* at = reinterpret_cast<const char*>(info->dlpi_addr + segment.p_vaddr);
                for (const char* end = at + segment.p_memsz; at + 12 <= end;) {
                    uint32_t sizes[3];
                    std::memcpy(sizes, at, sizeof sizes);
                    const char* name = at + 12;
                    const char* content = name + (sizes[0] + 3) / 4 * 4;
                    if (content + sizes[1] > end) break;
                    if (sizes[2] == 3 && sizes[0] == 4 && std::memcmp(name, "GNU", 4) == 0)  // its build id
                        for (uint32_t k = 0; k < sizes[1]; ++k) {
                            char hex[3];
                            std::snprintf(hex, sizeof hex, "%02x", static_cast<unsigned char>(content[k]));
                            build += hex;
                        }
                    at = content + (sizes[1] + 3) / 4 * 4;
                }
            }
            for (int i = 0; i < info->dlpi_phnum; ++i) {
                const auto& segment = info->dlpi_phdr[i];
                if (segment.p_type != PT_LOAD || !(segment.p_flags & PF_X)) continue;
                addDefinition(target, ModuleFields<std::string_view>{info->dlpi_addr + segment.p_vaddr, segment.p_memsz,
                                                                     segment.p_offset, path, build});
            }
            return 0;
        },
        &visit);
}

}  // namespace fugato::recording
