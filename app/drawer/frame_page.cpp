// SPDX-License-Identifier: GPL-3.0-or-later
#include "frame_page.h"

#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words FramePage::words() const {
    return {"frame",    tr("Frame"), tr("Table of the &frame"), tr("The selected frame's markers against usual ones"),
            tr("Time"), Scope::Frame};
}

FramePage::FramePage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "frame", tr("Markers of the selected frame against usual"), kFrameExcess, parent) {
    connect(&document, &Document::recordingChanged, this, &FramePage::takeChoice);
    whenChanged([this] { takeChoice(); });
    connect(&selection, &Selection::chosenChanged, this, &FramePage::takeChoice);
    takeChoice();
}

void FramePage::showEvent(QShowEvent*) { takeChoice(); }

void FramePage::takeChoice() {
    const auto& e = document_.explanation();
    const uint32_t frame = selection_.frame();
    if (!e || frame >= e->frames.size()) {
        asked_.reset();
        tables_.reset();
        return clear(tr("Markers"), document_.recording() ? tr("No frame is selected.")
                                                          : tr("The selected frame's markers against usual ones."));
    }
    if (!isVisible()) return;
    if (asked_ == e && askedFrame_ == frame) return showCause();
    if (!tables_ || tables_->explanation() != e) tables_ = std::make_shared<FrameTables>(e);
    const bool same = asked_ && askedFrame_ == frame && view_->table();
    asked_ = e;
    askedFrame_ = frame;
    query_.ask(
        [tables = tables_, e, frame](const Progress& progress) -> std::shared_ptr<const Table> {
            auto made = tables->of(frame, progress);
            return made ? frameTable(e, frame, std::move(*made)) : nullptr;
        },
        [this, e, frame, same](const std::shared_ptr<const Table>& table) {
            view_->setEmptyText(tr("There are no markers in this frame."));
            view_->setTable(table, same);
            title_->setText(tr("Markers"));
            about_->setText(tr("frame %1 against usual").arg(toQString(countText(frame))));
            if (same) return;
            openExcess({}, std::max<int64_t>(1'000'000, e->frame(frame).duration() / 20));
            showCause();
        });
}

void FramePage::showCause() {
    if (!asked_ || selection_.cause() >= asked_->causes.size()) return;
    const Cause& cause = asked_->causes[selection_.cause()];
    for (const uint32_t lane : asked_->recording->groups[cause.group].lanes)
        if (const Table::Row row = view_->rowWithKey(keyOfPath(lane, cause.path)); row != Table::kTop)
            return view_->showRow(row);
}

/// Opens the rows that hold a good part of the excess, so that the table starts where it matters.
void FramePage::openExcess(const QModelIndex& parent, int64_t least) {
    const TableModel& rows = view_->rows();
    for (int at = 0; at < rows.rowCount(parent); ++at) {
        const QModelIndex index = rows.index(at, 0, parent);
        const Table::Row row = TableModel::rowOf(index);
        const TableValue excess = view_->table()->value(row, kFrameExcess);
        if (view_->table()->emphasis(row, kFrameMarker) == Emphasis::Muted ||
            !std::holds_alternative<int64_t>(excess) || std::get<int64_t>(excess) < least)
            continue;
        view_->expand(index);
        openExcess(index, least);
    }
}

}  // namespace fugato
