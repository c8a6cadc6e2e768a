// SPDX-License-Identifier: GPL-3.0-or-later
//
// Makes the checksums of a cache file right again after its bytes were changed (see docs/index-file.md), so that what
// lies under them can be tested.
#pragma once

#include <algorithm>
#include <cstring>
#include <fugato_layout.hpp>
#include <string>

#include "core/store/storage.h"

namespace fugato::testing {

/// `file`: all bytes of one. Where its parts do not fit any more, it stays as it is.
inline void mendCacheFile(std::string& file) {
    constexpr size_t kOnDisk = 12, kBytes = 32, kArchiveAt = 40, kArchiveBytes = 48, kArchiveChecksum = 56,
                     kRegionsChecksum = 64, kChecksum = 72;
    const auto get = [&](size_t at) {
        uint64_t value = 0;
        std::memcpy(&value, file.data() + at, sizeof value);
        return value;
    };
    const auto put = [&](size_t at, uint64_t value) { std::memcpy(file.data() + at, &value, sizeof value); };
    if (file.size() < Storage::kFirst) return;
    const uint64_t bytes = get(kBytes), archiveAt = get(kArchiveAt), archiveBytes = get(kArchiveBytes);
    const uint64_t regions = bytes <= file.size() ? Storage::regionsOf(bytes) : 0;
    if (!regions || archiveAt > bytes || archiveBytes > bytes - archiveAt || regions * 8 > file.size() - bytes) return;
    put(kArchiveChecksum, layout::checksum(file.data() + archiveAt, archiveBytes));
    for (uint64_t region = 0; region < regions; ++region) {
        const uint64_t from = std::max(region * Storage::kRegion, Storage::kFirst),
                       to = std::min(bytes, (region + 1) * Storage::kRegion);
        put(bytes + region * 8, layout::checksum(file.data() + from, to > from ? to - from : 0));
    }
    put(kRegionsChecksum, layout::checksum(file.data() + bytes, regions * 8));
    std::string header = file.substr(0, kChecksum);
    std::memset(header.data() + kOnDisk, 0, 4);
    put(kChecksum, layout::checksum(header.data(), header.size()));
}

}  // namespace fugato::testing
