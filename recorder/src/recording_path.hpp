// SPDX-License-Identifier: MIT
//
// Where a recording goes. A path may hold patterns: %p the process, %t the local time
// (20260731-142536), %n the first number from 1 on that is not taken, %% a percent sign. A file that another
// program writes is never touched; one that is already there is kept unless it is asked for otherwise.
#pragma once

#include <string>

#include "own_files.hpp"

namespace fugato::recording {

/// What to do where the file is there already; as fug_existing.
enum class Existing { Keep = 0, Replace = 1, Refuse = 2 };

struct CreatedFile {
    Descriptor file;     // empty and locked for writing
    std::string path;    // absolute, patterns filled in; empty where it has no name
    bool given = false;  // somebody else made it: it is never removed
    int error = 0;
    std::string why;  // a sentence for what an errno value does not tell; else empty
};
/// Throws std::bad_alloc only.
CreatedFile createRecording(const std::string& path, Existing existing);

/// An open, empty, ordinary file that somebody made, maybe another process: it is opened anew, so that the lock is ours
/// alone. EEXIST where something is in it, EBUSY where it is recorded to, ENOTSUP for what is no ordinary file.
CreatedFile takeRecording(int descriptor);

/// The path with its patterns filled in; `number` stands for %n.
std::string filledIn(const std::string& path, unsigned number);

}  // namespace fugato::recording
