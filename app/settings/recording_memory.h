// SPDX-License-Identifier: GPL-3.0-or-later
//
// What the person arranged for one recording, from one opening to the next; known by the recording's id, wherever its
// file lies. Any thread.
#pragma once

#include <QString>
#include <QStringList>
#include <optional>

#include "core/ask/scope_choice.h"

namespace fugato {

struct RecordingMemory {
    QString page;          // of the drawer
    QString series;        // explained
    qlonglong budget = 0;  // ns; 0: the recorded deadlines
    // What is looked at, where the person chose it and it is not of what was selected then: late frames, a stage, all.
    std::optional<ScopeChoice> scope;
};

/// Empty where nothing is remembered.
RecordingMemory rememberedOf(const Recording& recording);
/// Of the recordings used last, a hundred are remembered.
void remember(const Recording& recording, const RecordingMemory& memory);

}  // namespace fugato
