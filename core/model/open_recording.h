// SPDX-License-Identifier: GPL-3.0-or-later
//
// Opens recordings: reads a file of either form into a model, lanes side by side on all cores.
#pragma once

#include "model_builder.h"

namespace fugato {

struct OpenOptions {
    unsigned threads = 0;  // 0: as many as there are cores
};

/// Reads a file of either form into a model.
Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress = {},
                                                       const OpenOptions& options = {});
/// The same from any bytes; `name` is used in sentences.
Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress = {}, const OpenOptions& options = {});

}  // namespace fugato
