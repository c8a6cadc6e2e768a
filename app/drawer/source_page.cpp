// SPDX-License-Identifier: GPL-3.0-or-later
#include "source_page.h"

#include "app/theme/words.h"
#include "core/ask/usual_markers.h"

namespace fugato {

DrawerPage::Words SourcePage::words() const {
    return {"source",   tr("Source"), tr("&Source"), tr("A file of the source, with what each of its lines cost"),
            tr("Code"), About::Scope};
}

SourcePage::SourcePage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "source", tr("Source with the cost of its lines"), -1, parent) {
    followScope(false);
    connect(&selection, &Selection::sourceWanted, this, [this](const SourcePlace& place) {
        place_ = place;
        bring_ = true;
        emit pageWanted("source");
        askAtOnce();
    });
    connect(&document, &Document::symbolsChanged, this, [this] { askSoon(); });
    connect(&document, &Document::recordingChanged, this, [this] {
        place_ = askedPlace_ = {};
        asked_.reset();
        clear(tr("Source"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    clear(tr("Source"), QString());
}

/// Where nothing was asked for, that of the selected marker or else of the selected cause.
void SourcePage::takeMarker() {
    if (!place_.file.empty()) return;
    const Recording& r = *document_.recording();
    place_ = selection_.sourceOfMarker();
    const auto& e = document_.explanation();
    if (place_.file.empty() && e && selection_.cause() < e->causes.size()) {
        const Site& site = r.siteOf(e->causes[selection_.cause()].path);
        place_ = {site.file, site.line};
    }
    bring_ = true;
}

void SourcePage::showEvent(QShowEvent*) { askAtOnce(); }

void SourcePage::fillMenu(QMenu& menu) {
    if (const SourcePlace selected = selection_.sourceOfMarker(); !selected.file.empty())
        menu.addAction(tr("Source of the selected &marker"), this,
                       [this, selected] { selection_.lookAtSource(selected); });
    TablePage::fillMenu(menu);
}

void SourcePage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    takeMarker();
    if (place_.file.empty()) {
        asked_.reset();
        return clear(tr("Source"),
                     tr("Select a marker, a cause or a function and press C: its source is shown here, where the "
                        "recording tells it."));
    }
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_.reset();
        return clear(tr("Source"), toQString(chosen.failure().sentence));
    }
    const auto& symbols = document_.symbols();
    const QList<SourceFolder> folders = sourceFolders();
    if (asked_ == recording && askedSymbols_ == symbols && askedScope_ == chosen->scope && askedPlace_ == place_ &&
        askedFolders_ == folders && !bring_)
        return;
    const bool same = asked_ && askedPlace_.file == place_.file && view_->table();
    asked_ = recording;
    askedSymbols_ = symbols;
    askedScope_ = chosen->scope;
    askedPlace_ = place_;
    askedFolders_ = folders;
    struct Answer {
        std::shared_ptr<const SourceFile> file;
        std::shared_ptr<const Table> table;
        QString why;
    };
    query_.ask(
        [recording, symbols, scope = chosen->scope, name = place_.file,
         folders](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            const QString path = placeOfSource(toQString(name), folders);
            if (path.isEmpty()) {
                answer->why =
                    tr("%1 is not found here. Go ▸ Source ▸ Source and editor… takes the folder in which the source "
                       "lies.")
                        .arg(toQString(name));
                return answer;
            }
            auto file = readSource(name, path.toStdString());
            if (!file) {
                answer->why = toQString(file.failure().sentence);
                return answer;
            }
            answer->file = std::make_shared<const SourceFile>(std::move(*file));
            const auto nested = nestedMarkers(*recording, scope, progress);
            if (!nested) return nullptr;
            std::shared_ptr<const Stacks> stacks;
            if (symbols && !recording->samples.empty()) {
                stacks = stacksIn(*recording, symbols, {scope, false}, progress);
                if (!stacks) return nullptr;
            }
            answer->table =
                sourceTable(recording, answer->file, stacks, groupedMarkers(*recording, nested, MarkersBy::Marker));
            return answer;
        },
        [this, same, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            if (!answer->table) return clear(tr("Source"), answer->why);
            title_->setText(shown(toQString(answer->file->name)));
            about_->setText(words);
            view_->setEmptyText(tr("The file is empty."));
            const bool bring = std::exchange(bring_, false);
            const auto show = [this] {
                if (const uint32_t lines = view_->table()->rowLimit(); place_.line && lines)
                    view_->showRow(std::min(place_.line, lines) - 1);
            };
            showTable(answer->table, same, show);
            if (bring && same) show();
        });
}

SourcePlace SourcePage::sourceOf(Table::Row row) const { return {place_.file, row + 1}; }

void SourcePage::follow(Table::Row row, bool zoom) {
    if (zoom) emit selection_.editorWanted(sourceOf(row));
}

}  // namespace fugato
