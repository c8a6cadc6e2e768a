// SPDX-License-Identifier: GPL-3.0-or-later
//
// What one chooses to ask about, in the words of the trade (this frame, its spike, the late frames of a cause, a
// stage…), and the scope that this comes to. May run on any thread.
#pragma once

#include <optional>

#include "core/explain/model/explanation.h"
#include "format/result.h"
#include "scope.h"

namespace fugato {

struct ScopeChoice {
    enum class Of : uint8_t {
        Frame,      // the selected one
        Spike,      // the late frames in a row to which it belongs
        Cause,      // the late frames that have the selected cause
        Late,       // all late frames
        Marker,     // the selected marker's occurrence, on its lane
        Selection,  // the selected time
        View,       // the time in view
        Stage,      // of the program
        Stretch,    // the time to which the person gave a name; all of that name
        Whole,      // the whole recording
    };
    enum class Lanes : uint8_t { All, OfMarker, Shown, Group, Program };  // OfMarker: the one of the selected marker

    Of of = Of::Whole;
    std::string stage;  // or stretch, by its name
    Lanes lanes = Lanes::All;
    std::string group;  // of lanes, by its name, or a program
    bool operator==(const ScopeChoice&) const = default;
};

struct NamedStretch {
    std::string name;
    TimeRange range;
    bool operator==(const NamedStretch&) const = default;
};

/// What is selected and in view, as far as anything is.
struct ScopeContext {
    uint32_t frame = kNone, cause = kNone;
    std::optional<TimeRange> selected;
    TimeRange view;
    MarkerRef marker;
    std::vector<NamedStretch> stretches{};
    std::vector<uint8_t> shownLanes{};  // by lane: 0 where it is hidden; empty: all are shown
    bool operator==(const ScopeContext&) const = default;
};

struct ChosenScope {
    Scope scope;
    std::string words;  // "132 late frames of A", "stage Race on workers"
};

/// Fails with why there is no such scope: nothing of the kind is selected, or the recording has none. `explanation`:
/// null where there is none yet.
Result<ChosenScope> chosenScope(const Recording& recording, const Explanation* explanation, const ScopeChoice& choice,
                                const ScopeContext& context);
/// Only its words, which cost nothing that grows with the recording.
Result<std::string> scopeWords(const Recording& recording, const Explanation* explanation, const ScopeChoice& choice,
                               const ScopeContext& context);
/// Whether two choices are about the same, also where it has grown or lies elsewhere now: the whole recording, the
/// late frames, the time in view stay what they are.
bool aboutTheSame(const ScopeChoice& a, const ScopeContext& inA, const ScopeChoice& b, const ScopeContext& inB);
/// What one begins with: the selected frame, or the whole of a recording without frames.
ScopeChoice usualScope(const Recording& recording);

}  // namespace fugato
