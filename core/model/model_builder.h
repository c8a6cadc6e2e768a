// SPDX-License-Identifier: GPL-3.0-or-later
//
// Builds a Recording from definitions and events, mending what does not fit together and counting
// what it mended. Use from one thread; finish() once.
#pragma once

#include <memory>

#include "format/recording_file.h"
#include "recording.h"

namespace fugato {

class ModelBuilder final : public EventSink {
public:
    ModelBuilder();
    ~ModelBuilder() override;
    void started(int64_t unixNs) override;
    void define(const Definition& definition) override;
    void event(uint32_t lane, const Event& event) override;
    std::shared_ptr<const Recording> finish(Damage damage = {});

private:
    struct Build;
    std::unique_ptr<Build> build_;
};

/// Reads a file of either form into a model.
Result<std::shared_ptr<const Recording>> openRecording(const std::string& path, const Progress& progress = {});
/// The same from any bytes; `name` is used in sentences.
Result<std::shared_ptr<const Recording>> openRecording(ByteSource& source, const std::string& name,
                                                       const Progress& progress = {});

}  // namespace fugato
