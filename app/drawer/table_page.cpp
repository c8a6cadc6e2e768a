// SPDX-License-Identifier: GPL-3.0-or-later
#include "table_page.h"

#include <QSplitter>

#include "app/parts/elided_label.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/ask/occurrences.h"

namespace fugato {

namespace {
constexpr int kAfterMs = 120;
}

TablePage::TablePage(Document& document, Selection& selection, const QString& id, const QString& name, int column,
                     QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      view_(new TableView(id, column, Qt::DescendingOrder, this)),
      title_(new ElidedLabel(this)),
      about_(new ElidedLabel(this)),
      filter_(new QLineEdit(this)),
      head_(new QHBoxLayout),
      lines_(new QVBoxLayout(this)) {
    view_->setAccessibleName(name);
    setFocusProxy(view_);
    title_->setFont(boldFont());
    title_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    about_->setFont(smallFont());
    filter_->setFont(smallFont());
    filter_->setPlaceholderText(tr("Filter"));
    filter_->setAccessibleName(tr("Filter of the table"));
    filter_->setToolTip(tr("Shows rows that hold these letters, and what lies above and below them"));
    filter_->setClearButtonEnabled(true);
    filter_->setFixedWidth(fontMetrics().averageCharWidth() * 14);
    head_->setContentsMargins(12, 3, 8, 2);
    head_->setSpacing(8);
    head_->addWidget(title_, 1);
    head_->addWidget(about_);
    head_->addWidget(filter_);
    lines_->setContentsMargins(0, 0, 0, 0);
    lines_->setSpacing(0);
    lines_->addLayout(head_);
    lines_->addWidget(view_, 1);
    soon_.setSingleShot(true);
    soon_.setInterval(kAfterMs);
    connect(&soon_, &QTimer::timeout, this, [this] { askNow(); });
    connect(filter_, &QLineEdit::textChanged, this, [this](const QString& words) { filterBy(words); });
    connect(filter_, &QLineEdit::returnPressed, view_, qOverload<>(&QWidget::setFocus));
    connect(view_, &TableView::rowChosen, this, [this](Table::Row row) { followRow(row, false); });
    connect(view_, &TableView::rowActivated, this, [this](Table::Row row) { followRow(row, true); });
    connect(view_, &TableView::menuOpens, this, [this](QMenu* menu) { addSource(*menu); });
    connect(view_, &TableView::said, about_, &QLabel::setText);
    connect(view_, &TableView::filled, this, [this] {
        showAbout();
        if (const auto open = std::exchange(open_, nullptr); open && view_->table()) open();
    });
    connect(&document, &Document::recordingChanged, &leading_, &BackgroundQuery::silence);
    connect(&query_, &BackgroundQuery::changed, this, [this] {
        if (!query_.busy()) pace_.done();
    });
    connect(&query_, &BackgroundQuery::failed, about_, &QLabel::setText);
    connect(&query_, &BackgroundQuery::progressed, this,
            [this](double part) { about_->setText(tr("computing, %1 %").arg(part * 100, 0, 'f', 0)); });
}

void TablePage::setAbout(const QString& words) {
    told_ = words;
    showAbout();
}

void TablePage::showAbout() {
    if (told_.isEmpty()) return;
    const uint64_t more = view_->whole() ? view_->whole()->leftOut() : 0;
    const QString first =
        more ? tr(", the first %1 in this order").arg(toQString(countText(view_->whole()->rowLimit()))) : QString();
    about_->setText(told_ + first);
}

void TablePage::askSoon() {
    if (!isVisible() || (document_.growing() && soon_.isActive())) return;
    soon_.start();
}

void TablePage::filterBy(const QString& words) {
    view_->rows().setFilter(words);
    if (!words.isEmpty() && !view_->rows().busy()) view_->expandToDepth(3);
}

void TablePage::askAtOnce() {
    soon_.stop();
    if (isVisible()) askNow();
}

void TablePage::whenChanged(std::function<void()> take) {
    connect(&document_, &Document::detailsChanged, this, [this, take = std::move(take)] {
        if (document_.growing() && (query_.busy() || !pace_.due())) return;
        pace_.begun();
        take();
    });
}

void TablePage::fillMenu(QMenu& menu) {
    addSource(menu);
    menu.addAction(tr("&Filter rows"), this, [this] { filter_->setFocus(Qt::ShortcutFocusReason); });
    view_->fillMenu(menu);
}

SourcePlace TablePage::sourceOf(Table::Row row) const {
    const auto& recording = document_.recording();
    if (!recording || !view_->table()) return {};
    const TablePlace place = view_->table()->place(row);
    uint32_t site = place.site;
    if (holds(*recording, place.marker)) site = recording->paths[recording->pathOf(place.marker)].site;
    if (site >= recording->sites.size()) return {};
    return {recording->sites[site].file, recording->sites[site].line};
}

void TablePage::addSource(QMenu& menu) {
    const QModelIndex row = view_->currentIndex();
    const SourcePlace place = row.isValid() ? sourceOf(TableModel::rowOf(row)) : SourcePlace();
    if (place.file.empty()) return;
    menu.addAction(tr("Show its so&urce"), this, [this, place] { selection_.lookAtSource(place); });
    menu.addAction(tr("Open it in the e&ditor"), this, [this, place] { emit selection_.editorWanted(place); });
    menu.addSeparator();
}

void TablePage::addBeside(QWidget* widget) { head_->addWidget(widget); }
void TablePage::addBelow(QWidget* widget) { lines_->insertWidget(1, widget); }

void TablePage::addPlot(QWidget* plot) {
    plot_ = plot;
    addBelow(plot);
    arrangePlot();
}

void TablePage::wantPlot(bool wanted) {
    plotWanted_ = wanted;
    arrangePlot();
}

void TablePage::arrangePlot() {
    constexpr int kLinesWithPlot = 18;  // of text: so high the page must be
    if (plot_) plot_->setVisible(plotWanted_ && height() >= fontMetrics().height() * kLinesWithPlot);
}

void TablePage::resizeEvent(QResizeEvent* event) {
    DrawerPage::resizeEvent(event);
    arrangePlot();
}

QLabel* TablePage::addFigures() {
    auto* figures = plainLabel(this);
    figures->setFont(textFont());
    figures->setWordWrap(true);
    figures->setContentsMargins(12, 0, 12, 5);
    figures->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    addBelow(figures);
    return figures;
}

QWidget* TablePage::addSideBySide(QWidget* left, QWidget* right) {
    auto* both = new QWidget(this);
    auto* line = new QHBoxLayout(both);
    line->setContentsMargins(12, 0, 12, 6);
    line->addWidget(left, 1);
    line->addWidget(right, 1);
    addBelow(both);
    return both;
}

QComboBox* TablePage::addChoice(const QString& name, const QString& help, const QList<std::pair<QString, int>>& choices,
                                const Setting<int>& remembered) {
    auto* box = new QComboBox(this);
    for (const auto& [words, value] : choices) box->addItem(words, value);
    box->setAccessibleName(name);
    box->setToolTip(plainTip(help));
    box->setFont(smallFont());
    box->setCurrentIndex(std::max(0, box->findData(remembered.get())));
    addBeside(box);
    connect(box, &QComboBox::activated, this, [this, box, remembered] {
        remembered.set(box->currentData().toInt());
        askAtOnce();
    });
    return box;
}

void TablePage::showTable(std::shared_ptr<const Table> table, bool same, std::function<void()> open) {
    if (!same) open_ = std::move(open);
    view_->setTable(std::move(table), same);
}

void TablePage::splitWith(QWidget* widget, int permille) {
    auto* both = new QSplitter(Qt::Horizontal, this);
    both->setChildrenCollapsible(false);
    delete lines_->replaceWidget(view_, both);
    lines_->setStretchFactor(both, 1);
    both->addWidget(view_);
    both->addWidget(widget);
    both->setSizes({1000 - permille, permille});
}

void TablePage::clear(const QString& title, const QString& sentence) {
    query_.silence();
    open_ = nullptr;
    view_->setTable(nullptr, false);
    title_->setText(title);
    told_.clear();
    about_->clear();
    view_->setEmptyText(sentence);
}

void TablePage::followScope(bool whole) {
    hold_ = new QToolButton(this);
    hold_->setFont(smallFont());
    hold_->setCheckable(true);
    hold_->setAccessibleName(tr("Hold the page to what it shows"));
    hold_->setToolTip(tr("The page stays at what it shows, whatever is looked at above"));
    addBeside(hold_);
    const QString kept = settings::heldPage(words().id, whole ? "whole" : "").get();
    ScopeChoice lasting;
    if (kept == "late") lasting.of = ScopeChoice::Of::Late;
    if (!kept.isEmpty()) held_ = Held{lasting, {}};
    showHeld();
    connect(hold_, &QToolButton::toggled, this, [this](bool on) {
        if (on == held_.has_value()) return;
        setHeld(on ? std::optional(shownNow()) : std::nullopt);
        askAtOnce();
    });
    connect(&document_, &Document::recordingChanged, this, [this] {
        if (held_ && held_->choice.of != ScopeChoice::Of::Whole && held_->choice.of != ScopeChoice::Of::Late)
            setHeld(std::nullopt);  // it was about the recording before
    });
    for (const auto signal : {&Selection::scopeChanged, &Selection::chosenChanged, &Selection::rangeChanged})
        connect(&selection_, signal, this, &TablePage::askAtOnce);
    connect(&selection_, &Selection::viewChanged, this, [this] {
        // While the end is followed the view moves with every frame; whenChanged() tells of it once a second.
        if (!held_ && selection_.scope().of == ScopeChoice::Of::View && !selection_.followsEnd()) askSoon();
    });
}

void TablePage::setHeld(std::optional<Held> held) {
    held_ = std::move(held);
    const auto of = held_ ? held_->choice.of : ScopeChoice::Of::Frame;
    settings::heldPage(words().id, "")
        .set(of == ScopeChoice::Of::Whole  ? "whole"
             : of == ScopeChoice::Of::Late ? "late"
                                           : "");
    showHeld();
}

void TablePage::holdTo(const ScopeChoice& choice) { setHeld(Held{choice, selection_.scopeContext()}); }

void TablePage::showHeld() {
    hold_->setChecked(held_.has_value());
    hold_->setText(held_ ? tr("Held") : tr("Hold"));
}

TablePage::Held TablePage::shownNow() const {
    return held_ ? *held_ : Held{selection_.scope(), selection_.scopeContext()};
}

Result<ChosenScope> TablePage::scopeNow() const {
    const Held now = shownNow();
    return chosenScope(*document_.recording(), document_.explanation().get(), now.choice, now.context);
}

bool TablePage::speaksOfTheSame() {
    const auto before = std::exchange(spokenOf_, shownNow());
    return before && aboutTheSame(before->choice, before->context, spokenOf_->choice, spokenOf_->context);
}

void TablePage::followMarker() {
    connect(&selection_, &Selection::chosenChanged, this, [this] {
        if (!following_ && isVisible()) view_->showMarker(selection_.marker());
    });
}

void TablePage::followRow(Table::Row row, bool zoom) {
    following_ = true;
    follow(row, zoom);
    following_ = false;
}

void TablePage::followInstant() { connect(&selection_, &Selection::instantChanged, this, &TablePage::askAtOnce); }

int64_t TablePage::instantNow() const {
    if (const auto chosen = selection_.instant()) return *chosen;
    const Recording& r = *document_.recording();
    const MarkerRef& marker = selection_.marker();
    if (holds(r, marker)) return r.lanes[marker.lane].rows[marker.row].begin(marker.index);
    const auto& e = document_.explanation();
    if (e && selection_.frame() < e->frames.size()) return e->frame(selection_.frame()).begin;
    return selection_.view().begin;
}

void TablePage::follow(Table::Row row, bool zoom) {
    if (!view_->table() || !document_.recording()) return;
    const TablePlace place = view_->table()->place(row);
    if (place.marker.valid())
        return zoom ? selection_.showMarker(place.marker, true) : selection_.lookAtMarker(place.marker, true);
    if (place.lane != kNone && place.begin < place.end) {
        const int64_t margin = std::max<int64_t>(1000, (place.end - place.begin) / 4);
        selection_.chooseMarker(document_.recording()->innermostBefore(place.lane, place.end));
        return selection_.showSpan(place.begin - margin, place.end + margin, true);
    }
    if (place.site != kNone) {
        selection_.chooseSite(place.site);
        if (zoom) showLongest(place.site);
        return;
    }
    if (place.lane != kNone && place.begin == 0 && place.end == 0) return selection_.lookAtLane(place.lane);
    if (place.begin > 0) {
        const int64_t half = (selection_.view().end - selection_.view().begin) / 2;
        selection_.showSpan(place.begin - half, place.begin + half, true);
    }
}

void TablePage::showLongest(uint32_t site) {
    const auto recording = document_.recording();
    const auto chosen = hold_ ? scopeNow() : Result<ChosenScope>(ChosenScope{wholeOf(*recording), {}});
    if (!chosen) return;
    leading_.ask([recording, site, in = chosen->scope](
                     const Progress& progress) { return longestOccurrences(*recording, site, in, 1, progress); },
                 [this](const std::shared_ptr<const std::vector<Occurrence>>& longest) {
                     if (!longest->empty()) selection_.showMarker(longest->front().marker, true);
                 });
}

}  // namespace fugato
