// SPDX-License-Identifier: GPL-3.0-or-later
//
// Takes back what was set by hand: the budget, what is explained alone, what is simulated, the selected time, how the
// lanes are arranged, what was noted. Watches the document, the selection and the arrangement; nothing else has to tell
// it. Interface thread only.
#pragma once

#include <QElapsedTimer>
#include <QObject>
#include <optional>
#include <vector>

#include "app/document/document.h"
#include "core/ask/time_range.h"
#include "lane_arrangement.h"

namespace fugato {

class Selection;

class Undo : public QObject {
    Q_OBJECT
public:
    Undo(Document& document, Selection& selection, ArrangedLanes& arrangement, QObject* parent = nullptr);
    bool canUndo() const { return !before_.empty(); }
    bool canRedo() const { return !after_.empty(); }
    void undo() { step(before_, after_); }
    void redo() { step(after_, before_); }

signals:
    void changed();

private:
    struct State {
        int64_t budget = 0;
        ExplainScope scope;
        std::vector<Repair> repairs;
        std::optional<TimeRange> range;
        LaneArrangement lanes;
        std::vector<Note> notes;
        bool operator==(const State&) const = default;
    };
    State now() const;
    void look();
    void step(std::vector<State>& from, std::vector<State>& to);

    Document& document_;
    Selection& selection_;
    ArrangedLanes& arrangement_;
    State shown_;
    std::vector<State> before_, after_;
    bool stepping_ = false;
    QElapsedTimer sinceRange_;
};

}  // namespace fugato
