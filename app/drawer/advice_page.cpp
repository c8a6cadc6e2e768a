// SPDX-License-Identifier: GPL-3.0-or-later
#include "advice_page.h"

#include <QDialog>
#include <QDialogButtonBox>
#include <QDoubleSpinBox>
#include <QFormLayout>
#include <QPushButton>
#include <QSettings>
#include <QTimer>
#include <QToolButton>

#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/words.h"
#include "core/explain/words/sentences.h"
#include "table_looks.h"

namespace fugato {

namespace {
constexpr int kNumberRole = Qt::UserRole + 1;  // of the advice, in every row
constexpr auto kSlowFile = "advice/slow file ns", kAllocations = "advice/allocations", kMessages = "advice/messages";
}  // namespace

DrawerPage::Words AdvicePage::words() const {
    return {"advice", tr("Advice"), tr("Advice"), tr("Findings beyond single spikes, and what to look at next")};
}

AdvicePage::AdvicePage(Document& document, Selection& selection, QWidget* parent)
    : DrawerPage(parent),
      document_(document),
      selection_(selection),
      tree_(new QTreeView(this)),
      title_(plainLabel(this)),
      about_(plainLabel(this)),
      limits_(new QToolButton(this)) {
    tree_->setModel(&model_);
    tree_->setAccessibleName(tr("Advice"));
    tree_->setWordWrap(true);
    limits_->setText(tr("Limits…"));
    limits_->setToolTip(tr("From when on file requests, allocations and messages are worth a finding"));
    connect(limits_, &QToolButton::clicked, this, &AdvicePage::askForLimits);
    layOutPage(*this, *title_, *about_, *tree_, limits_);
    title_->setText(tr("Advice"));
    connect(&document, &Document::recordingChanged, this, [this] {
        asking_.silence();
        asked_.reset();
        advice_.reset();
        model_.clear();
        about_->clear();
    });
    connect(&document, &Document::explanationChanged, this, [this] {
        if (isVisible()) ask();
    });
    connect(&asking_, &Asking::progressed, this,
            [this](double part) { about_->setText(tr("looking, %1 %").arg(part * 100, 0, 'f', 0)); });
    connect(tree_, &QTreeView::clicked, this, [this](const QModelIndex& index) {
        if (index.column() != kAccepted) follow(index);
    });
    connect(tree_, &QTreeView::activated, this, &AdvicePage::follow);
    connect(&model_, &QStandardItemModel::itemChanged, this, [this](QStandardItem* item) {
        if (item->column() != kAccepted || !item->isCheckable() || !advice_) return;
        const QString key = q((*advice_)[item->data(kNumberRole).toULongLong()].key);
        if (item->checkState() == Qt::Checked)
            accepted_.insert(key);
        else
            accepted_.remove(key);
        QSettings().setValue(settingsKey(), QStringList(accepted_.values()));
        QTimer::singleShot(0, this, &AdvicePage::fill);  // not while the model tells of this
    });
}

QString AdvicePage::about() const { return about_->text(); }

void AdvicePage::showEvent(QShowEvent* event) {
    QWidget::showEvent(event);
    ask();
}

/// Acceptance holds for a program, not for one recording of it.
QString AdvicePage::settingsKey() const {
    const auto& context = document_.recording()->context;
    const auto program = context.find("program");
    return "accepted/" + (program == context.end() ? QString("unknown") : q(program->second).replace('/', '_'));
}

void AdvicePage::ask() {
    const auto e = document_.explanation();
    if (!e || e == asked_) {
        if (!e && document_.recording()) about_->setText(document_.whyUnexplained());
        return;
    }
    asked_ = e;
    about_->setText(tr("looking…"));
    asking_.ask([e, wanted = limits()](const Progress& progress) { return adviceFor(*e, wanted, progress); },
                [this](const std::shared_ptr<const std::vector<Advice>>& found) {
                    advice_ = found;
                    const QStringList known = QSettings().value(settingsKey()).toStringList();
                    accepted_ = QSet<QString>(known.begin(), known.end());
                    fill();
                });
}

AdviceLimits AdvicePage::limits() {
    const QSettings settings;
    AdviceLimits limits;
    limits.slowFile = settings.value(kSlowFile, qlonglong{limits.slowFile}).toLongLong();
    limits.allocations = settings.value(kAllocations, limits.allocations).toUInt();
    limits.messages = settings.value(kMessages, limits.messages).toUInt();
    return limits;
}

void AdvicePage::setLimits(const AdviceLimits& limits) {
    QSettings settings;
    settings.setValue(kSlowFile, qlonglong{limits.slowFile});
    settings.setValue(kAllocations, limits.allocations);
    settings.setValue(kMessages, limits.messages);
    asked_.reset();
    ask();
}

void AdvicePage::askForLimits() {
    QDialog dialog(this);
    dialog.setWindowTitle(tr("Limits of advice"));
    auto* form = new QFormLayout(&dialog);
    auto* slowFile = new QDoubleSpinBox(&dialog);
    slowFile->setRange(0.01, 60'000);
    slowFile->setSuffix(tr(" ms"));
    auto* allocations = new QSpinBox(&dialog);
    auto* messages = new QSpinBox(&dialog);
    for (QSpinBox* box : {allocations, messages}) box->setRange(1, 1'000'000);
    form->addRow(tr("A file request takes longer than"), slowFile);
    form->addRow(tr("Allocations in one marker of a frame, more than"), allocations);
    form->addRow(tr("Messages of one lane in a frame, at least"), messages);
    const auto show = [&](const AdviceLimits& limits) {
        slowFile->setValue(static_cast<double>(limits.slowFile) / 1e6);
        allocations->setValue(static_cast<int>(limits.allocations));
        messages->setValue(static_cast<int>(limits.messages));
    };
    show(limits());
    auto* buttons = new QDialogButtonBox(
        QDialogButtonBox::Ok | QDialogButtonBox::Cancel | QDialogButtonBox::RestoreDefaults, &dialog);
    form->addRow(buttons);
    connect(buttons, &QDialogButtonBox::accepted, &dialog, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, &dialog, &QDialog::reject);
    connect(buttons->button(QDialogButtonBox::RestoreDefaults), &QPushButton::clicked, &dialog,
            [&] { show(AdviceLimits{}); });
    if (dialog.exec() != QDialog::Accepted) return;
    setLimits({static_cast<int64_t>(slowFile->value() * 1e6 + 0.5), static_cast<uint32_t>(allocations->value()),
               static_cast<uint32_t>(messages->value())});
}

void AdvicePage::fill() {
    if (!advice_) return;
    model_.clear();
    model_.setHorizontalHeaderLabels({tr("What"), tr("How sure"), tr("Takes in all"), tr("Accepted")});
    dressTable(*tree_, kColumns, 92);
    tree_->setUniformRowHeights(false);
    tree_->setSortingEnabled(false);
    int open = 0, accepted = 0;
    QList<QList<QStandardItem*>> later;
    for (size_t i = 0; i < advice_->size(); ++i) {
        const Advice& advice = (*advice_)[i];
        const bool taken = accepted_.contains(q(advice.key));
        ++(taken ? accepted : open);
        QList<QStandardItem*> row{
            new QStandardItem(q(advice.title)), new QStandardItem(q(certaintyName(advice.certainty))),
            new QStandardItem(advice.cost ? q(durationText(advice.cost)) : QString()), new QStandardItem};
        row[kWhat]->setFont(boldFont());
        for (QStandardItem* item : row) {
            item->setData(qulonglong{i}, kNumberRole);
            item->setEditable(false);
            if (item != row[kWhat]) item->setTextAlignment(Qt::AlignRight | Qt::AlignVCenter);
            if (taken) item->setForeground(theme().muted);
        }
        row[kAccepted]->setCheckable(true);
        row[kAccepted]->setCheckState(taken ? Qt::Checked : Qt::Unchecked);
        row[kAccepted]->setToolTip(tr("Accepted findings stand at the end, and stay accepted for this program"));
        for (const std::string& words : {advice.evidence, advice.next}) {
            auto* said = new QStandardItem(q(words));
            said->setData(qulonglong{i}, kNumberRole);
            said->setForeground(&words == &advice.next || taken ? theme().muted : theme().text);
            said->setToolTip(plainTip(q(words)));
            row[kWhat]->appendRow(said);
        }
        if (taken)
            later << row;
        else
            model_.appendRow(row);
    }
    const int first = model_.rowCount();
    for (const auto& row : later) model_.appendRow(row);
    for (int row = 0; row < model_.rowCount(); ++row) {
        tree_->setExpanded(model_.index(row, 0), row < first);
        for (int child = 0; child < 2; ++child) tree_->setFirstColumnSpanned(child, model_.index(row, 0), true);
    }
    about_->setText(
        advice_->empty()
            ? tr("nothing found beyond the causes at the left")
            : tr("%1, %2 accepted").arg(q(plural(static_cast<uint64_t>(open), "finding", "findings"))).arg(accepted));
}

void AdvicePage::follow(const QModelIndex& index) {
    const QModelIndex first = index.siblingAtColumn(0);
    if (!advice_ || !first.data(kNumberRole).isValid() || !document_.recording()) return;
    const Advice& advice = (*advice_)[first.data(kNumberRole).toULongLong()];
    if (advice.lane == kNone || advice.begin >= advice.end) return;
    const int64_t margin = std::max<int64_t>(1000, (advice.end - advice.begin) / 4);
    selection_.chooseMarker(document_.recording()->innermostBefore(advice.lane, advice.end));
    selection_.showSpan(advice.begin - margin, advice.end + margin, true);
}

}  // namespace fugato
