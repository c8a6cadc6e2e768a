// SPDX-License-Identifier: GPL-3.0-or-later
#include "undo.h"

#include <utility>

#include "selection.h"

namespace fugato {

namespace {
constexpr size_t kMostSteps = 100;
constexpr qint64 kOneDrag = 600;  // ms without a change
}  // namespace

Undo::Undo(Document& document, Selection& selection, ArrangedLanes& arrangement, QObject* parent)
    : QObject(parent), document_(document), selection_(selection), arrangement_(arrangement) {
    connect(&document, &Document::recordingChanged, this, [this] {
        before_.clear();
        after_.clear();
        shown_ = now();
        emit changed();
    });
    connect(&document, &Document::explanationChanged, this, [this](bool fresh) {
        // What was opened is no step, nor what was only explained anew.
        const bool same = document_.scope() == shown_.scope && (fresh || document_.budget() == shown_.budget);
        same ? void(shown_ = now()) : look();
    });
    connect(&document.trials(), &Trials::changed, this, &Undo::look);
    connect(&selection, &Selection::rangeChanged, this, &Undo::look);
    connect(&arrangement, &ArrangedLanes::changed, this, &Undo::look);
    connect(&document.notes(), &Notes::changed, this, &Undo::look);
    connect(&document.notes(), &Notes::loaded, this, [this] { shown_.notes = document_.notes().all(); });
    connect(&arrangement, &ArrangedLanes::loaded, this, [this] { shown_.lanes = arrangement_.now(); });
}

Undo::State Undo::now() const {
    return {document_.budget(), document_.scope(),  document_.trials().repairs(),
            selection_.range(), arrangement_.now(), document_.notes().all()};
}

/// Another state than the one before was set by hand, unless by a step.
void Undo::look() {
    State state = now();
    if (document_.busy() || state == shown_) return;
    State rest = state;
    rest.range = shown_.range;
    const bool onlyRange = rest == shown_;
    const bool goesOn = onlyRange && sinceRange_.isValid() && sinceRange_.elapsed() < kOneDrag;  // it is being dragged
    onlyRange ? sinceRange_.start() : sinceRange_.invalidate();
    if (!stepping_ && !goesOn) {
        before_.push_back(shown_);
        if (before_.size() > kMostSteps) before_.erase(before_.begin());
        after_.clear();
    }
    shown_ = std::move(state);
    emit changed();
}

void Undo::step(std::vector<State>& from, std::vector<State>& to) {
    if (from.empty() || document_.busy()) return;
    const State wanted = from.back();
    from.pop_back();
    to.push_back(now());
    stepping_ = true;
    sinceRange_.invalidate();
    selection_.selectRange(wanted.range);
    arrangement_.set(wanted.lanes);
    document_.notes().setAll(wanted.notes);
    const bool explains = wanted.budget != document_.budget() || !(wanted.scope == document_.scope());
    if (!explains) document_.trials().setRepairs(wanted.repairs);  // else their causes are others
    document_.setScope(wanted.scope);
    document_.setBudget(wanted.budget);
    stepping_ = false;
    shown_ = wanted;
    if (explains) shown_.repairs.clear();
    emit changed();
}

}  // namespace fugato
