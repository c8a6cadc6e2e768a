// SPDX-License-Identifier: GPL-3.0-or-later
#include "opening.h"

#include <fcntl.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <own_files.hpp>
#include <unclosed_recording.hpp>

#include "binary_form.h"

namespace fugato {

namespace {

/// The first `keep` bytes of a source, then others.
class ExtendedSource final : public ByteSource {
public:
    ExtendedSource(std::unique_ptr<ByteSource> first, uint64_t keep, std::string more)
        : first_(std::move(first)), keep_(keep), more_(std::move(more)) {}
    uint64_t size() const override { return keep_ + more_.size(); }
    size_t read(uint64_t offset, char* out, size_t count) override {
        size_t done = 0;
        if (offset < keep_) done = first_->read(offset, out, std::min<uint64_t>(count, keep_ - offset));
        if (offset + done >= keep_ && offset + done < size()) {
            const uint64_t from = offset + done - keep_;
            const size_t part = std::min<uint64_t>(count - done, more_.size() - from);
            std::memcpy(out + done, more_.data() + from, part);
            done += part;
        }
        return done;
    }

private:
    std::unique_ptr<ByteSource> first_;
    uint64_t keep_;
    std::string more_;
};

std::string foundInBuffers(uint64_t events) {
    return "The program ended without closing its recording; " + std::to_string(events) +
           (events == 1 ? " event more, up to its last instant, was" : " events more, up to its last instant, were") +
           " found in its buffers";
}

}  // namespace

Result<OpenedRecording> openRecordingSource(const std::string& path, const Progress& progress) {
    auto source = FileSource::open(path);
    if (!source) return source.failure();
    OpenedRecording opened;
    Unclosed unclosed = lookAtUnclosed((*source)->descriptor(), path, searchProgress(progress, (*source)->size()));
    opened.source = std::move(*source);
    switch (unclosed.state) {
        case Unclosed::State::BeingWritten:
            opened.beingWritten = true;
            opened.note = kBeingMade;
            break;
        case Unclosed::State::CopyOfLive:
            opened.note =
                "This is a copy of a recording that is still being made; what had been written when it was "
                "copied is shown.";
            break;
        case Unclosed::State::Ended:
            opened.rescuedEvents = unclosed.events;
            opened.note = foundInBuffers(unclosed.events) +
                          ". They could not be saved with it (no permission, or no room): copy it to a place of your "
                          "own with room, and open it there before this machine restarts.";
            opened.source =
                std::make_unique<ExtendedSource>(std::move(opened.source), unclosed.keep, std::move(unclosed.more));
            break;
        case Unclosed::State::Closed:
        case Unclosed::State::Incomplete: break;
    }
    return opened;
}

std::string makeRecordingWhole(const std::string& path, const Progress& progress) {
    std::error_code error;
    const uint64_t bytes = std::filesystem::file_size(path, error);
    const MadeWhole made = makeWhole(path, searchProgress(progress, error ? 0 : bytes));
    return made.outcome == MadeWhole::Outcome::Done ? foundInBuffers(made.events) + " and saved with it." : "";
}

void makeLeftRecordingsWhole() { clearLeftBuffers("/dev/shm"); }

void noteBeingWritten(Damage& damage) { noteOpening(damage, kBeingMade, true); }

void noteOpening(Damage& damage, const std::string& note, bool beingWritten) {
    if (note.empty()) return;
    if (beingWritten && damage.indexMissing) {  // a growing file has no index yet
        damage.indexMissing = false;
        std::erase(damage.notes, kNotClosed);
    }
    damage.notes.insert(damage.notes.begin(), note);
}

}  // namespace fugato
