// SPDX-License-Identifier: GPL-3.0-or-later
//
// Reads the lanes of a file into a builder, several at once.
#pragma once

#include <atomic>
#include <chrono>

#include "format/binary_reader.h"
#include "model_builder.h"

namespace fugato {

class LaneReading {
public:
    struct Way {
        unsigned threads = 0;  // 0: as many as there are cores
        /// Told, on the thread that runs, what can be shown already. May be empty.
        std::function<void(std::shared_ptr<const Recording>)> early;
        bool closes = true;  // each lane when all of it is read
    };
    /// Reader and builder outlive it.
    LaneReading(const BinaryReader& reader, ModelBuilder& builder, const Progress& progress, Way way);
    /// Returns false where it was cancelled.
    bool run(Damage& damage);

private:
    bool beginsWithFrames(const LaneBlocks& lane) const;
    void work(bool tells);
    void tell();
    void tellEarly(bool atOnce);

    const BinaryReader& reader_;
    ModelBuilder& builder_;
    const Progress& progress_;
    const Way way_;
    std::vector<LaneBuilder*> builders_;
    std::vector<size_t> order_;
    std::vector<Damage> damages_;
    std::vector<std::atomic<bool>> closed_;
    std::atomic<size_t> next_{0}, working_{0};
    std::atomic<uint64_t> read_{0};
    std::atomic<bool> stop_{false};
    size_t framesFirst_ = 0, toldClosed_ = 0;
    bool framesTold_ = false;
    std::chrono::steady_clock::time_point toldAt_;
};

}  // namespace fugato
