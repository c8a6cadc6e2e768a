// SPDX-License-Identifier: GPL-3.0-or-later
//
// Builds a Recording from definitions and events, mending what does not fit together and counting
// what it mended. Use from one thread; finish() once. Lanes may also be filled side by side: take
// their builders with lane() first, then let one thread each use one.
#pragma once

#include <memory>

#include "format/recording_file.h"
#include "lane_builder.h"

namespace fugato {

/// A frame that was read, before its critical path is known.
struct NewFrame {
    Frame frame;
    int64_t pacing = 0;  // its own lane's, in it
};

class ModelBuilder final : public EventSink {
public:
    explicit ModelBuilder(std::shared_ptr<Storage> storage = Storage::inMemory());
    ~ModelBuilder() override;
    void started(int64_t unixNs) override;
    void define(const Definition& definition) override;
    void event(uint32_t lane, const Event& event) override;
    /// The builder of the lane with an id of the file.
    LaneBuilder& lane(uint32_t id);
    /// Gives paths the numbers they have in `before`, where its markers are known by the same numbers here.
    void keepPathsOf(const Recording& before);
    /// The recording of all that was told; null where `progress` cancelled it. Instead of what follows.
    std::shared_ptr<Recording> finish(Damage damage = {}, const Progress& progress = {});
    /// The recording of what was told so far, while more is to come: what is open lasts to its lane's last event, and
    /// is nothing to be mended. Paths keep their numbers from one to the next. What is settled is shared with the
    /// others; copying the rest costs about two bytes for each marker. Instead of finish().
    std::shared_ptr<Recording> asItIs(Damage damage = {});
    /// The frames of the series of this name from `number` on, also those that no recording holds yet.
    std::vector<NewFrame> framesFrom(size_t number, const std::string& series);
    /// A recording of the lanes that are closed, to be shown while others (named by their ids) are still
    /// being filled: their markers, and the frames, states and points they told.
    std::shared_ptr<const Recording> soFar(const std::vector<std::pair<uint32_t, std::vector<Lane::Unread>>>& unread);

private:
    struct Build;
    std::unique_ptr<Build> build_;
};

}  // namespace fugato
