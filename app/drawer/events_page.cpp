// SPDX-License-Identifier: GPL-3.0-or-later
#include "events_page.h"

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

constexpr size_t kLastOfEach = 12;

QString nameOf(EventGroup group) {
    switch (group) {
        case EventGroup::Marker: return EventsPage::tr("&Markers");
        case EventGroup::Wait: return EventsPage::tr("&Waits");
        case EventGroup::Frame: return EventsPage::tr("&Frames");
        case EventGroup::Link: return EventsPage::tr("&Links");
        case EventGroup::Point: return EventsPage::tr("&Points, failed calls");
        case EventGroup::Operation: return EventsPage::tr("&Operations");
        case EventGroup::State: return EventsPage::tr("&States");
        case EventGroup::Counter: return EventsPage::tr("&Counters");
        case EventGroup::Memory: return EventsPage::tr("M&emory");
        case EventGroup::Picture: return EventsPage::tr("P&ictures");
        case EventGroup::Lost: return EventsPage::tr("Los&t events");
        case EventGroup::Input: return EventsPage::tr("I&nput");
    }
    return {};
}

}  // namespace

DrawerPage::Words EventsPage::words() const {
    return {"events",      tr("Events"),
            tr("&Events"), tr("Everything that happened, in order of time; or the last events of each lane"),
            tr("Work"),    About::Scope};
}

EventsPage::EventsPage(Document& document, Selection& selection, QWidget* parent)
    : TablePage(document, selection, "events", tr("Events in what is looked at"), -1, parent),
      order_(addChoice(tr("How the events are listed"),
                       tr("All of them in order of time; or the last few of each lane, as before a crash"),
                       {{tr("in order of time"), 0}, {tr("last of each lane"), 1}}, settings::eventsLast())),
      which_(new QToolButton(this)) {
    filter_->setToolTip(tr("Events with these letters in a name, text or argument; “key=value” asks for an argument"));
    which_->setFont(smallFont());
    which_->setAccessibleName(tr("Which events are listed"));
    which_->setToolTip(tr("Which kinds of events are listed, how severe points must be, and of which category"));
    which_->setPopupMode(QToolButton::InstantPopup);
    auto* menu = new QMenu(which_);
    connect(menu, &QMenu::aboutToShow, this, [this, menu] {
        menu->clear();
        fillWhich(*menu);
    });
    which_->setMenu(menu);
    addBeside(which_);
    showWhich();
    followScope(false);
    followMarker();
    connect(&selection, &Selection::instantChanged, this, [this] { showInstant(true); });
    connect(&document, &Document::recordingChanged, this, [this] {
        asked_.reset();
        list_.reset();
        category_.clear();
        showWhich();
        clear(tr("Events"), QString());
        askSoon();
    });
    whenChanged([this] { askSoon(); });
    connect(view_, &TableView::filled, this, [this] {  // sorted in another way, it may have no place, or one again
        if (inOrderOfTime() != view_->line().has_value()) showInstant(false);
    });
    clear(tr("Events"), tr("Events in what is looked at."));
}

void EventsPage::showEvent(QShowEvent*) { askAtOnce(); }

void EventsPage::fillWhich(QMenu& menu) {
    const EventFilter now = filterNow();
    const auto add = [this](QMenu& to, const QString& name, bool on, std::function<void()> act) {
        QAction* action = to.addAction(name);
        action->setCheckable(true);
        action->setChecked(on);
        connect(action, &QAction::triggered, this, [this, act = std::move(act)] {
            act();
            showWhich();
            askAtOnce();
        });
    };
    for (size_t i = 0; i < kEventGroups; ++i)
        add(menu, nameOf(static_cast<EventGroup>(i)), now.has(static_cast<EventGroup>(i)),
            [kinds = now.kinds ^ (1u << i)] { settings::eventsKinds().set(static_cast<int>(kinds)); });
    menu.addSeparator();
    QMenu* severity = menu.addMenu(tr("Se&verity of points"));
    for (const auto& [name, least] :
         {std::pair(tr("&Any"), Severity::Debug), std::pair(tr("From &info on"), Severity::Info),
          std::pair(tr("From &warning on"), Severity::Warning), std::pair(tr("&Errors"), Severity::Error)})
        add(*severity, name, now.least == least,
            [least = least] { settings::eventsLeast().set(static_cast<int>(least)); });
    QMenu* categories = menu.addMenu(tr("Cate&gory"));
    add(*categories, tr("Any"), category_.isEmpty(), [this] { category_.clear(); });
    QStringList names;
    if (const auto recording = document_.recording())
        for (const Site& site : recording->sites)
            if (!site.category.empty()) names << toQString(site.category);
    names.removeDuplicates();
    names.sort(Qt::CaseInsensitive);
    for (const QString& name : names)
        add(*categories, QString(name).replace('&', "&&"), name == category_, [this, name] { category_ = name; });
    categories->setEnabled(!names.isEmpty());
    menu.addSeparator();
    QAction* all = menu.addAction(tr("&All events"));
    connect(all, &QAction::triggered, this, [this] {
        settings::eventsKinds().set(-1);
        settings::eventsLeast().set(0);
        category_.clear();
        showWhich();
        askAtOnce();
    });
}

/// What is left out is told in few words.
void EventsPage::showWhich() {
    const EventFilter filter = filterNow();
    QStringList kinds, words;
    for (size_t i = 0; i < kEventGroups; ++i)
        if (filter.has(static_cast<EventGroup>(i))) kinds << nameOf(static_cast<EventGroup>(i)).remove('&');
    if (kinds.size() == 1) words << kinds[0].toLower();
    if (kinds.size() != 1 && kinds.size() < static_cast<qsizetype>(kEventGroups))
        words << tr("%1 kinds").arg(kinds.size());
    if (filter.least == Severity::Error) words << tr("errors");
    if (filter.least == Severity::Warning) words << tr("warnings, errors");
    if (filter.least == Severity::Info) words << tr("without debug");
    if (!category_.isEmpty()) words << tr("of “%1”").arg(category_);
    which_->setText(words.isEmpty() ? tr("All events") : words.join(", "));
}

EventFilter EventsPage::filterNow() const {
    EventFilter filter;
    filter.kinds &= static_cast<uint32_t>(settings::eventsKinds().get());
    filter.least = static_cast<Severity>(std::clamp(settings::eventsLeast().get(), 0, int(Severity::Error)));
    filter.category = category_.toStdString();
    filter.words = filter_->text().toStdString();
    return filter;
}

void EventsPage::filterBy(const QString&) { askSoon(); }

void EventsPage::showLast() {
    order_->setCurrentIndex(order_->findData(1));
    settings::eventsLast().set(1);
    ScopeChoice whole;
    whole.of = ScopeChoice::Of::Whole;
    holdTo(whole);
    askAtOnce();
}

void EventsPage::askNow() {
    const auto recording = document_.recording();
    if (!recording || !isVisible()) return;
    const bool last = order_->currentData().toInt() == 1;
    const auto chosen = scopeNow();
    if (!chosen) {
        asked_.reset();
        list_.reset();
        return clear(tr("Events"), toQString(chosen.failure().sentence));
    }
    const EventFilter filter = filterNow();
    if (asked_ == recording && askedScope_ == chosen->scope && askedFilter_ == filter && askedLast_ == last) return;
    const bool same = speaksOfTheSame() && asked_ && askedFilter_ == filter && askedLast_ == last && view_->table();
    asked_ = recording;
    askedScope_ = chosen->scope;
    askedFilter_ = filter;
    askedLast_ = last;
    struct Answer {
        std::shared_ptr<const EventList> list;
        std::shared_ptr<const Table> table;
    };
    query_.ask(
        [recording, scope = chosen->scope, filter, last](const Progress& progress) -> std::shared_ptr<const Answer> {
            auto answer = std::make_shared<Answer>();
            answer->list = EventList::of(recording, scope, filter, progress);
            if (!answer->list) return nullptr;
            answer->table =
                last ? lastEventTable(answer->list, kLastOfEach) : std::make_shared<const EventTable>(answer->list);
            return answer;
        },
        [this, same, last, words = capitalised(toQString(chosen->words))](const std::shared_ptr<const Answer>& answer) {
            list_ = answer->list;
            title_->setText(words);
            setAbout(last ? tr("the last %1 of each lane").arg(kLastOfEach)
                          : toQString(plural(list_->size(), "event", "events")));
            view_->setEmptyText(filter_->text().isEmpty() ? tr("No event of these kinds lies there.")
                                                          : tr("No event of these kinds there holds these letters."));
            showTable(answer->table, same, [this, last] {
                if (last)
                    view_->expandAll();
                else
                    view_->showMarker(selection_.marker());
            });
            showInstant(true);
        });
}

bool EventsPage::inOrderOfTime() const { return dynamic_cast<const EventTable*>(view_->whole().get()) != nullptr; }

/// As a line among the events that are listed. `bring`: into view, where no marker is selected that has a row.
void EventsPage::showInstant(bool bring) {
    const auto instant = selection_.instant();
    if (!list_ || !inOrderOfTime() || !instant || !isVisible()) return view_->showLine(std::nullopt);
    placing_.ask(
        [list = list_, at = *instant](const Progress&) { return std::make_shared<const uint64_t>(list->placeOf(at)); },
        [this, list = list_, bring](const std::shared_ptr<const uint64_t>& place) {
            if (list == list_) view_->showLine(static_cast<Table::Row>(*place), bring && !selection_.marker().valid());
        });
}

}  // namespace fugato
