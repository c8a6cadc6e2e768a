// SPDX-License-Identifier: GPL-3.0-or-later
//
// A recording that must open: a test that cannot go on without it ends.
#pragma once

#include <QtGlobal>
#include <memory>
#include <string>

#include "core/model/open_recording.h"

namespace fugato {

inline std::shared_ptr<const Recording> opened(const std::string& file, const OpenOptions& options = {}) {
    auto result = openRecording(file, {}, options);
    if (!result) qFatal("%s", result.failure().sentence.c_str());
    return *result;
}

}  // namespace fugato
