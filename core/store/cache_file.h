// SPDX-License-Identifier: GPL-3.0-or-later
//
// A Storage kept as a file for the next time: a header, the columns, and behind them what does not lie in
// columns, as the bytes of an Archive. Described in docs/index-file.md. Such a file is only a copy of what
// can be worked out again: one that does not fit is not read.
#pragma once

#include <optional>
#include <span>
#include <string>

#include "storage.h"

namespace fugato {

/// What a cache file must agree with to be of use.
struct CacheKey {
    const char* magic;    // 8 characters: what kind of file
    uint64_t state = 0;   // of the recording it was made from
    uint64_t layout = 0;  // changes with the size of anything that is kept as it lies in memory
};
uint64_t layoutNumber(std::span<const uint64_t> sizes);

/// Finishes the file of `storage`; the archive is put behind the columns. Returns false where it could not be
/// (no file, or the disk was full). It still needs a name.
bool completeCacheFile(Storage& storage, const std::string& archive, const CacheKey& cacheKey);

struct CacheFile {
    std::shared_ptr<Storage> storage;
    std::string archive;
};
std::optional<CacheFile> openCacheFile(const std::string& path, const CacheKey& cacheKey);

}  // namespace fugato
