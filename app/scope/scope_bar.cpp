// SPDX-License-Identifier: GPL-3.0-or-later
#include "scope_bar.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <set>

#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {
using Of = ScopeChoice::Of;
constexpr size_t kMostRoles = 100;           // in the list of lanes
constexpr int kNameRole = Qt::UserRole + 1;  // of a program or a group of lanes
constexpr int kSpace = 6;
}  // namespace

ScopeBar::ScopeBar(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      document_(document),
      selection_(selection),
      more_(new QToolButton(this)),
      moreMenu_(new QMenu(this)),
      stages_(new QMenu(this)),
      stretches_(new QMenu(this)),
      lanes_(new QComboBox(this)),
      head_(plainLabel(tr("Looking at"), this)),
      on_(plainLabel(tr("on"), this)) {
    chips_ = {{Of::Frame, nullptr, tr("The selected frame")},
              {Of::Spike, nullptr, tr("The late frames in a row to which the selected frame belongs")},
              {Of::Cause, nullptr, tr("The late frames that have the selected cause")},
              {Of::Late, nullptr, tr("All late frames")},
              {Of::Marker, nullptr, tr("The selected marker's time, on its lane")},
              {Of::Selection, nullptr, tr("The selected time")},
              {Of::View, nullptr, tr("The time in view")},
              {Of::Stage, nullptr, tr("A stage of the program")},
              {Of::Stretch, nullptr, tr("A stretch of time with a name, from the notes")},
              {Of::Whole, nullptr, tr("The whole recording")}};
    setAccessibleName(tr("What is looked at"));
    setFocusPolicy(Qt::ClickFocus);
    auto* line = new QHBoxLayout(this);
    line->setContentsMargins(14, 2, 14, 3);
    line->setSpacing(kSpace);
    line->addWidget(head_);
    addChips(*line);
    line->addWidget(more_);
    line->addStretch(1);
    line->addWidget(on_);
    line->addWidget(lanes_);
    for (QLabel* label : {head_, on_}) label->setFont(smallFont());
    setUpLanes();
    connect(&document, &Document::recordingChanged, this, &ScopeBar::takeLanes);  // the selection tells the rest
    connect(&document, &Document::contentChanged, this, [this] {
        if (document_.growing()) takeLanes();
        take();
    });
    for (const auto signal : {&Selection::scopeChanged, &Selection::chosenChanged, &Selection::rangeChanged})
        connect(&selection, signal, this, &ScopeBar::take);
    takeLanes();
    take();
}

void ScopeBar::addChips(QHBoxLayout& line) {
    auto* together = new QButtonGroup(this);
    for (Chip& chip : chips_) {
        chip.button = new QToolButton(this);
        chip.button->setCheckable(true);
        chip.button->setProperty("chip", true);
        chip.button->setFont(smallFont());
        chip.button->setToolTip(tr("%1: what the pages below speak of").arg(chip.help));
        together->addButton(chip.button);
        line.addWidget(chip.button);
        connect(chip.button, &QToolButton::clicked, this, [this, of = chip.of] { choose(of); });
    }
    QToolButton& stage = this->chip(Of::Stage);
    stage.setPopupMode(QToolButton::MenuButtonPopup);
    stage.setMenu(stages_);
    connect(stages_, &QMenu::aboutToShow, this, [this] {
        stages_->clear();
        fillStages(*stages_);
    });
    QToolButton& stretch = this->chip(Of::Stretch);
    stretch.setPopupMode(QToolButton::MenuButtonPopup);
    stretch.setMenu(stretches_);
    connect(stretches_, &QMenu::aboutToShow, this, [this] {
        stretches_->clear();
        fillStretches(*stretches_);
    });
    more_->setObjectName("more");
    more_->setText(tr("More"));
    more_->setFont(smallFont());
    more_->setProperty("chip", true);
    more_->setPopupMode(QToolButton::InstantPopup);
    more_->setMenu(moreMenu_);
    more_->setAccessibleName(tr("More that can be looked at"));
    connect(moreMenu_, &QMenu::aboutToShow, this, [this] {
        moreMenu_->clear();
        fillMenu(*moreMenu_);
    });
}

void ScopeBar::setUpLanes() {
    lanes_->setFont(smallFont());
    lanes_->setAccessibleName(tr("Lanes that are looked at"));
    lanes_->setToolTip(tr("The lanes that the pages below speak of"));
    lanes_->setSizeAdjustPolicy(QComboBox::AdjustToContents);
    connect(lanes_, &QComboBox::activated, this, [this] {
        ScopeChoice choice = selection_.scope();
        choice.lanes = static_cast<ScopeChoice::Lanes>(lanes_->currentData().toInt());
        choice.group = lanes_->currentData(kNameRole).toString().toStdString();
        selection_.chooseScope(choice);
    });
}

QToolButton& ScopeBar::chip(Of of) const {
    for (const Chip& chip : chips_)
        if (chip.of == of) return *chip.button;
    qFatal("There is no such chip.");
}

QString ScopeBar::words() const {
    if (!document_.recording()) return {};
    const auto words = scopeWords(*document_.recording(), document_.explanation().get(), selection_.scope(),
                                  selection_.scopeContext());
    return toQString(words ? *words : words.failure().sentence);
}

/// The stage in which the selected frame, or else what is in view, begins; the first where that is in none.
std::string ScopeBar::stageHere() const {
    const Recording& r = *document_.recording();
    const auto& e = document_.explanation();
    const int64_t time =
        e && selection_.frame() < e->frames.size() ? e->frame(selection_.frame()).begin : selection_.view().begin;
    const StateSpan* const here = r.stageAt(time);
    const auto names = here ? std::vector<std::string>() : r.stageNames();
    return here ? std::string(r.text(here->value)) : names.empty() ? std::string() : names.front();
}

void ScopeBar::take() {
    const auto& recording = document_.recording();
    const ScopeChoice& chosen = selection_.scope();
    for (Chip& chip : chips_) {
        ScopeChoice one;
        one.of = chip.of;
        if (recording && one.of == Of::Stage) one.stage = chosen.of == Of::Stage ? chosen.stage : stageHere();
        if (recording && one.of == Of::Stretch) one.stage = chosen.of == Of::Stretch ? chosen.stage : stretchHere();
        chip.possible = false;
        const bool named = one.of == Of::Stage || one.of == Of::Stretch;
        if (recording && (!named || !one.stage.empty())) {
            const auto words = scopeWords(*recording, document_.explanation().get(), one, selection_.scopeContext());
            chip.possible = words.ok();
            if (words) {
                const QString text = one.of == Of::View ? tr("time in view") : toQString(*words);
                chip.button->setText(chip.button->fontMetrics().elidedText(text, Qt::ElideMiddle, 190));
                chip.button->setAccessibleName(text);
            }
        }
        chip.button->setChecked(chosen.of == chip.of);
    }
    lanes_->setEnabled(chosen.of != Of::Marker);
    showLanes();
    arrange();
}

/// Those that fit, the chosen one in any case; the rest is in the menu.
void ScopeBar::arrange() {
    const auto widthOf = [](const QWidget* widget) { return widget->sizeHint().width() + kSpace; };
    const QMargins margins = layout()->contentsMargins();
    int left = width() - margins.left() - margins.right() - widthOf(head_) - widthOf(on_) - widthOf(lanes_);
    int all = 0;
    for (const Chip& chip : chips_)
        if (chip.possible) all += widthOf(chip.button);
    const bool tooMany = all > left;
    if (tooMany) left -= widthOf(more_);
    for (const Chip& chip : chips_)
        if (chip.possible && chip.button->isChecked()) left -= widthOf(chip.button);
    for (const Chip& chip : chips_) {
        bool shown = chip.possible && chip.button->isChecked();
        if (chip.possible && !shown && widthOf(chip.button) <= left) {
            left -= widthOf(chip.button);
            shown = true;
        }
        chip.button->setVisible(shown);
    }
    more_->setVisible(tooMany);
}

/// The chosen one takes it.
void ScopeBar::focusInEvent(QFocusEvent* event) {
    for (const Chip& chip : chips_)
        if (chip.button->isChecked()) return chip.button->setFocus(event->reason());
}

void ScopeBar::resizeEvent(QResizeEvent* event) {
    QWidget::resizeEvent(event);
    arrange();
}

void ScopeBar::takeLanes() {
    const auto& recording = document_.recording();
    lanes_->clear();
    lanes_->addItem(tr("all lanes"), int(ScopeChoice::Lanes::All));
    lanes_->addItem(tr("the marker's lane"), int(ScopeChoice::Lanes::OfMarker));
    lanes_->addItem(tr("shown lanes"), int(ScopeChoice::Lanes::Shown));
    const auto add = [&](const QString& words, const std::string& name, ScopeChoice::Lanes which) {
        lanes_->addItem(words, int(which));
        lanes_->setItemData(lanes_->count() - 1, QString::fromStdString(name), kNameRole);
    };
    if (recording) {
        const auto programs = recording->programNames();
        for (size_t i = 0; i < programs.size() && programs.size() > 1; ++i)
            add(tr("lanes of %1").arg(toQString(programs[i])), programs[i], ScopeChoice::Lanes::Program);
        for (size_t group = 0; group < std::min(kMostRoles, recording->groups.size()); ++group)
            add(toQString(recording->groups[group].name), recording->groups[group].name, ScopeChoice::Lanes::Group);
    }
    showLanes();
}

/// Which lanes are looked at now.
void ScopeBar::showLanes() {
    const ScopeChoice& chosen = selection_.scope();
    int at = 0;
    for (int i = 0; i < lanes_->count(); ++i)
        if (lanes_->itemData(i) == int(chosen.lanes) &&
            lanes_->itemData(i, kNameRole).toString().toStdString() == chosen.group)
            at = i;
    lanes_->setCurrentIndex(at);
}

void ScopeBar::choose(Of of) {
    if (of == Of::Stage) return chooseNamed(of, stageHere());
    if (of == Of::Stretch) return chooseNamed(of, stretchHere());
    ScopeChoice choice = selection_.scope();
    choice.of = of;
    choice.stage.clear();
    selection_.chooseScope(choice);
}

void ScopeBar::chooseNamed(Of of, const std::string& name) {
    ScopeChoice choice = selection_.scope();
    choice.of = of;
    choice.stage = name;
    selection_.chooseScope(choice);
    take();
}

void ScopeBar::fillStages(QMenu& menu) {
    if (!document_.recording()) return;
    for (const std::string& stage : document_.recording()->stageNames()) {
        QAction* action = menu.addAction(toQString(stage).replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(selection_.scope().of == Of::Stage && selection_.scope().stage == stage);
        connect(action, &QAction::triggered, this, [this, stage] { chooseNamed(Of::Stage, stage); });
    }
}

/// The stretch with a name that the view overlaps, else the first.
std::string ScopeBar::stretchHere() const {
    const ScopeContext context = selection_.scopeContext();
    for (const NamedStretch& stretch : context.stretches)
        if (stretch.range.begin < context.view.end && stretch.range.end > context.view.begin) return stretch.name;
    return context.stretches.empty() ? std::string() : context.stretches.front().name;
}

void ScopeBar::fillStretches(QMenu& menu) {
    std::set<std::string> names;
    for (const NamedStretch& stretch : selection_.scopeContext().stretches) names.insert(stretch.name);
    for (const std::string& name : names) {
        QAction* action = menu.addAction(toQString(name).replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(selection_.scope().of == Of::Stretch && selection_.scope().stage == name);
        connect(action, &QAction::triggered, this, [this, name] { chooseNamed(Of::Stretch, name); });
    }
}

void ScopeBar::fillMenu(QMenu& menu) {
    for (const Chip& chip : chips_) {
        if (!chip.possible) continue;
        if (chip.of == Of::Stage) {
            fillStages(*menu.addMenu(tr("Stage")));
            continue;
        }
        if (chip.of == Of::Stretch) {
            fillStretches(*menu.addMenu(tr("Stretch")));
            continue;
        }
        QAction* action = menu.addAction(chip.button->accessibleName().replace('&', "&&"));
        action->setCheckable(true);
        action->setChecked(chip.button->isChecked());
        connect(action, &QAction::triggered, this, [this, of = chip.of] { choose(of); });
    }
}

}  // namespace fugato
