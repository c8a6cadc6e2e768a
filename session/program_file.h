// SPDX-License-Identifier: GPL-3.0-or-later
//
// What can be told of a program before it is started: whether there is one, and how it can be recorded. Any thread.
#pragma once

#include <string>

#include "format/result.h"

namespace fugato {

struct ProgramFile {
    std::string path;  // absolute
    enum class How {
        Itself,    // it carries the recorder
        Preloaded  // unmodified: frames, waits and files are recorded by the preloaded library
    } how = How::Preloaded;
    std::string script;  // the path of the script, where the program is what runs it
};

/// Finds a program as a shell would, from `folder` (empty: the current one), and looks at its file. Where there is
/// none, or it cannot be recorded, a sentence says why and what to do.
Result<ProgramFile> lookAtProgram(const std::string& name, const std::string& folder = {});

}  // namespace fugato
