// SPDX-License-Identifier: GPL-3.0-or-later
#include "search_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"

namespace fugato {

DrawerPage::Words SearchPage::words() const {
    return {"search",
            tr("Search"),
            tr("Search &results"),
            tr("Markers, lanes, arguments and points that match the search"),
            tr("Findings"),
            About::Recording};
}

SearchPage::SearchPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "search", tr("Search results"), -1, parent), inLanes_(new QToolButton(this)) {
    inLanes_->setFont(smallFont());
    inLanes_->setText(tr("In the lanes"));
    inLanes_->setToolTip(tr("Shows the search results alone in the lanes, or fades all other markers"));
    inLanes_->setPopupMode(QToolButton::InstantPopup);
    auto* menu = new QMenu(inLanes_);
    menu->addAction(tr("&Fade all but the search results"), this, [this] { focusFound(false); });
    menu->addAction(tr("&Only the search results"), this, [this] { focusFound(true); });
    menu->addAction(tr("&All markers"), this, [this] { selection_.focusMarkers(nullptr); });
    inLanes_->setMenu(menu);
    addBeside(inLanes_);
    connect(&document, &Document::recordingChanged, this, &SearchPage::showHint);
    showHint();
}

void SearchPage::focusFound(bool alone) {
    if (!found_) return;
    MarkersInFocus kept{"“" + found_->text + "”", {}, alone};
    for (const FoundMarker& marker : found_->markers) kept.sites.push_back(marker.site);
    std::sort(kept.sites.begin(), kept.sites.end());
    selection_.focusMarkers(std::make_shared<const MarkersInFocus>(std::move(kept)));
}

void SearchPage::showHint() {
    found_.reset();
    inLanes_->setEnabled(false);
    clear(tr("Search"),
          tr("Ctrl+F searches names of markers and lanes, words in points, values of arguments, or key=value."));
}

namespace {

QString aboutText(const Found& found) {
    QStringList words;
    const auto count = [&](uint64_t n, const char* one, const char* many) {
        if (n) words << toQString(plural(n, one, many));
    };
    count(found.markers.size(), "marker", "markers");
    count(found.lanes.size(), "lane", "lanes");
    count(found.allArguments, "argument", "arguments");
    count(found.allPoints, "point", "points");
    if (words.isEmpty()) return SearchPage::tr("Nothing holds these letters; key=value asks for arguments.");
    const bool more = found.allArguments > found.arguments.size() || found.allPoints > found.points.size();
    return words.join(", ") +
           (more ? SearchPage::tr("; the first %1 of each are shown").arg(toQString(countText(kMostFound)))
                 : QString());
}

}  // namespace

void SearchPage::search(const QString& words) {
    const auto recording = document_.recording();
    if (!recording) return;
    title_->setText(tr("“%1”").arg(words));
    about_->setText(tr("searching…"));
    struct Answer {
        std::shared_ptr<const Found> found;
        std::shared_ptr<const Table> table;
    };
    query_.ask(
        [recording, text = words.toStdString()](const Progress& progress) -> std::shared_ptr<const Answer> {
            const auto found = fugato::search(*recording, text, progress);
            if (!found) return nullptr;
            return std::make_shared<const Answer>(Answer{found, foundTable(recording, found)});
        },
        [this](const std::shared_ptr<const Answer>& answer) {
            found_ = answer->found;
            inLanes_->setEnabled(!found_->markers.empty());
            about_->setText(aboutText(*answer->found));
            view_->setEmptyText(aboutText(*answer->found));
            view_->setTable(answer->table, false);
            if (answer->found->markers.empty()) return;
            view_->showRow(0);
            follow(0, false);
        });
}

}  // namespace fugato
