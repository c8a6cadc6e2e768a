// SPDX-License-Identifier: GPL-3.0-or-later
//
// How the person arranged the lanes: their order, which are hidden, stay at the top or are folded, and which markers
// have a tint. Lanes are known by their keys (core/model/keys.h), so that it holds for every recording of a program;
// kept under the program's name. Interface thread only.
#pragma once

#include <QObject>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <vector>

#include "core/model/recording.h"

namespace fugato {

enum class LaneOrder : uint8_t {
    Recorded,
    Activity,  // the busiest in the selected frame first; without one, in the whole recording
    Part,      // those with the largest part in the selected frame's critical path first
    Own,       // as the person put them
};

struct LaneArrangement {
    LaneOrder order = LaneOrder::Recorded;
    bool byRole = false;               // lanes of one role stand together
    bool byProgram = false;            // lanes of one program do, where the recording holds several
    std::vector<std::string> own;      // keys of lanes from top to bottom
    std::set<std::string> hidden;      // lanes and tracks
    std::set<std::string> pinned;      // stay at the top
    std::set<std::string> folded;      // lanes, and whole groups of lanes, that are one slim line
    std::set<std::string> unfolded;    // lanes nested deeply whose deeper rows are open
    std::map<std::string, int> tints;  // "marker NAME" or "category NAME": from 1 to Theme::kTints
    bool operator==(const LaneArrangement&) const = default;
};

QByteArray jsonOf(const LaneArrangement& arrangement);
/// What of it can be read; damaged settings are as none.
LaneArrangement arrangementIn(const QByteArray& json);

/// Keys of what can be arranged.
struct LaneKeys {
    std::vector<std::string> lanes, groups;  // by lane, by group
    explicit LaneKeys(const Recording& recording);
    LaneKeys() = default;
};

/// All lanes from top to bottom, hidden ones too; those at the top first. `weights`: by lane, for the orders that need
/// one.
std::vector<uint32_t> orderOf(const Recording& recording, const LaneKeys& keys, const LaneArrangement& arrangement,
                              const std::vector<int64_t>& weights);

/// The arrangement of the open recording's program.
class ArrangedLanes : public QObject {
    Q_OBJECT
public:
    using QObject::QObject;
    const LaneArrangement& now() const { return now_; }
    void takeRecording(const Recording& recording);  // that of its program
    void set(const LaneArrangement& arrangement);    // and keeps it
    /// Changes a copy, which becomes the arrangement.
    template <class Change>
    void change(Change&& change) {
        LaneArrangement next = now_;
        change(next);
        set(next);
    }

signals:
    void changed();  // by the person
    void loaded();   // that of another recording

private:
    LaneArrangement now_;
    QString program_;
};

}  // namespace fugato
