// SPDX-License-Identifier: GPL-3.0-or-later
//
// What programs that were killed left in shared memory.
#pragma once

#include <sys/stat.h>
#include <sys/types.h>

#include <ctime>
#include <filesystem>
#include <string>
#include <vector>

namespace fugato {

inline const time_t kProgramStarted = ::time(nullptr);

/// The files of buffers of a process that ran after this program started: another one may have had its number before.
inline std::vector<std::string> buffersOf(pid_t process) {
    const std::string prefix = "fugato-" + std::to_string(process) + "-";
    std::vector<std::string> found;
    std::error_code error;
    for (const auto& entry : std::filesystem::directory_iterator("/dev/shm", error)) {
        struct stat status {};
        if (entry.path().filename().string().compare(0, prefix.size(), prefix) == 0 &&
            ::lstat(entry.path().c_str(), &status) == 0 && status.st_ctime >= kProgramStarted - 1)
            found.push_back(entry.path());
    }
    return found;
}

inline void removeBuffersOf(pid_t process) {
    for (const std::string& path : buffersOf(process)) std::filesystem::remove(path);
}

}  // namespace fugato
