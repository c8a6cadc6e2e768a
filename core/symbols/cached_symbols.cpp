// SPDX-License-Identifier: GPL-3.0-or-later
#include "cached_symbols.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <fugato_layout.hpp>

#include "core/store/archive.h"
#include "format/byte_source.h"
#include "format/shown_text.h"

namespace fugato {

template <class A>
static void describe(A& a, CodeFunction& f) {
    a(f.name, f.file, f.declared, f.line, f.lineFile);
}

namespace {

constexpr uint64_t kMostBytes = uint64_t{1} << 28;

struct Header {
    char magic[8];
    uint64_t bytes, checksum;  // of what follows
};
constexpr char kMagic[8] = {'F', 'U', 'G', 'S', 'Y', 'M', '0', '4'};

template <bool kWriting>
bool archive(CachedSymbols& symbols, std::string& bytes) {
    const auto none = Storage::inMemory();  // there are no columns
    Archive<kWriting> a(*none, bytes);
    a(symbols.state, symbols.places);
    return a.good();
}

}  // namespace

std::string symbolCachePath(const std::string& folder, const std::string& buildId) {
    const bool hexadecimal = buildId.find_first_not_of("0123456789abcdef") == std::string::npos;
    if (folder.empty() || !hexadecimal || buildId.size() < 8 || buildId.size() > 128) return {};
    return folder + "/" + buildId + ".symbols";
}

CachedSymbols readCachedSymbols(const std::string& path) {
    CachedSymbols kept;
    auto file = openFile(path);
    Header header;
    if (!file || (*file)->read(0, reinterpret_cast<char*>(&header), sizeof header) != sizeof header) return kept;
    const uint64_t size = (*file)->size() - sizeof header;
    if (std::memcmp(header.magic, kMagic, sizeof kMagic) != 0 || header.bytes != size || size > kMostBytes) return kept;
    std::string bytes(size, '\0');
    if ((*file)->read(sizeof header, bytes.data(), size) != size ||
        layout::checksum(bytes.data(), bytes.size()) != header.checksum || !archive<false>(kept, bytes))
        return {};
    using State = DebugInformation::State;
    if (kept.state > State::Unreadable) return {};
    for (const auto& [offset, functions] : kept.places)
        for (const CodeFunction& function : functions)
            if (!isShownText(function.name) || !isShownText(function.file) || !isShownText(function.lineFile))
                return {};
    ::utimensat(AT_FDCWD, path.c_str(), nullptr, 0);  // used now
    return kept;
}

void cacheSymbols(const std::string& path, CachedSymbols& symbols) {
    std::string bytes;
    archive<true>(symbols, bytes);
    if (bytes.size() > kMostBytes) return;
    Header header{};
    std::memcpy(header.magic, kMagic, sizeof kMagic);
    header.bytes = bytes.size();
    header.checksum = layout::checksum(bytes.data(), bytes.size());
    std::error_code error;
    std::filesystem::create_directories(std::filesystem::path(path).parent_path(), error);
    const std::string unfinished = path + "." + std::to_string(::getpid());
    std::ofstream file(unfinished, std::ios::binary);
    file.write(reinterpret_cast<const char*>(&header), sizeof header);
    file.write(bytes.data(), static_cast<std::streamsize>(bytes.size()));
    file.close();
    if (file) std::filesystem::rename(unfinished, path, error);
    if (!file || error) std::filesystem::remove(unfinished, error);
}

}  // namespace fugato
