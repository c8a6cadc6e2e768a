// SPDX-License-Identifier: GPL-3.0-or-later
#include "recordings_folder.h"

#include <unistd.h>

#include <cstdlib>
#include <ctime>
#include <filesystem>

namespace fugato {

namespace {

namespace fs = std::filesystem;

/// What a name of a file may hold: the rest becomes "_".
std::string asFileName(const std::string& name) {
    constexpr size_t kMost = 60;
    std::string out;
    for (const char c : name.substr(0, kMost))
        out += std::isalnum(static_cast<unsigned char>(c)) || c == '.' || c == '-' || c == '_' ? c : '_';
    return out.empty() || out[0] == '.' ? "program" + out : out;
}

std::string numbered(const std::string& path, unsigned number) {
    fs::path out(path);
    out.replace_filename(out.stem().string() + "-" + std::to_string(number) + out.extension().string());
    return out.string();
}

}  // namespace

Result<std::string> recordingsFolder() {
    const char *const data = std::getenv("XDG_DATA_HOME"), *const home = std::getenv("HOME");
    const fs::path base = data && *data == '/' ? fs::path(data)
                          : home && *home      ? fs::path(home) / ".local/share"
                                               : fs::path();
    if (base.empty()) return Failure{"There is no folder for recordings: neither XDG_DATA_HOME nor HOME is set."};
    const fs::path folder = base / "fugato/recordings";
    std::error_code error;
    const bool made = fs::create_directories(folder, error);
    if (made) fs::permissions(folder, fs::perms::owner_all, error);
    if (error || access(folder.c_str(), W_OK) != 0)
        return Failure{"The folder for recordings, " + folder.string() + ", cannot be made or written" +
                       (error ? ": " + error.message() : std::string()) + "."};
    return folder.string();
}

std::string newRecordingPath(const std::string& folder, const std::string& program) {
    char text[32];
    const std::time_t now = std::time(nullptr);
    std::tm local{};
    localtime_r(&now, &local);
    std::strftime(text, sizeof text, "%Y%m%d-%H%M%S", &local);
    const std::string path = (fs::path(folder) / (asFileName(program) + "-" + text + ".fugato")).string();
    std::error_code none;
    if (!fs::exists(path, none)) return path;
    for (char letter = 'b';; ++letter) {  // several in the same second
        fs::path other(path);
        other.replace_filename(other.stem().string() + letter + ".fugato");
        if (letter == 'z' || !fs::exists(other, none)) return other.string();
    }
}

std::vector<std::string> recordingsMadeFor(const std::string& path) {
    std::vector<std::string> found;
    std::error_code none;
    if (fs::exists(path, none)) found.push_back(path);
    for (unsigned number = 2; fs::exists(numbered(path, number), none); ++number)
        found.push_back(numbered(path, number));
    return found;
}

}  // namespace fugato
