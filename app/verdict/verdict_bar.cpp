// SPDX-License-Identifier: GPL-3.0-or-later
#include "verdict_bar.h"

#include <QAbstractItemView>
#include <QComboBox>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QLabel>
#include <QLineEdit>
#include <QPainter>
#include <QRegularExpression>
#include <QStyle>

#include "app/budget/budget_text.h"
#include "app/document/document.h"
#include "app/selection/selection.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "bound_legend.h"
#include "core/explain/words/sentences.h"

namespace fugato {

namespace {

void markWrong(QLineEdit* field, bool wrong) {
    field->setProperty("wrong", wrong);
    field->style()->unpolish(field);
    field->style()->polish(field);
}
/// One line that ends in dots where it does not fit.
class ElidedLabel : public QLabel {
public:
    using QLabel::QLabel;
    QSize minimumSizeHint() const override { return {60, QLabel::minimumSizeHint().height()}; }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        painter.setPen(theme().text);
        const QString shown = painter.fontMetrics().elidedText(text(), Qt::ElideRight, width());
        painter.drawText(rect(), int(alignment()), shown);
    }
};

}  // namespace

VerdictBar::VerdictBar(Document& document, Selection& selection, QWidget* parent)
    : QWidget(parent),
      document_(document),
      selection_(selection),
      name_(plainLabel(this)),
      facts_(plainLabel(this)),
      sentence_(new ElidedLabel(this)),
      bound_(new ElidedLabel(this)),
      legend_(new BoundLegend(this)),
      series_(new QComboBox(this)),
      budget_(new QLineEdit(this)),
      find_(new QLineEdit(this)) {
    layOut();
    connect(&document, &Document::recordingChanged, this, &VerdictBar::takeRecording);
    connect(&document, &Document::contentChanged, this, &VerdictBar::takeRecording);
    connect(&document.trials(), &Trials::changed, this, &VerdictBar::takeExplanation);
    connect(&document, &Document::progressed, this, [this](double, const QString& what) {
        if (!document_.explanation()) sentence_->setText(what + "…");
    });
    connect(&document, &Document::cancelled, this, &VerdictBar::takeRecording);
    connect(&document, &Document::failed, this, &VerdictBar::takeRecording);
    connect(series_, &QComboBox::activated, this,
            [this](int at) { document_.setSeries(series_->itemData(at).toUInt()); });
    connect(budget_, &QLineEdit::editingFinished, this, &VerdictBar::applyBudget);
    connect(find_, &QLineEdit::returnPressed, this, &VerdictBar::applyFind);
    connect(budget_, &QLineEdit::returnPressed, this, [this] {
        applyBudget();
        if (!budget_->isModified()) emit done();  // else it was not a budget
    });
    for (QLineEdit* field : {budget_, find_}) field->installEventFilter(this);
    takeRecording();
}

void VerdictBar::layOut() {
    name_->setFont(boldFont());
    facts_->setFont(smallFont());
    sentence_->setFont(titleFont());
    sentence_->setAlignment(Qt::AlignCenter);
    name_->setTextFormat(Qt::PlainText);
    sentence_->setTextFormat(Qt::PlainText);
    bound_->setFont(smallFont());
    bound_->setAlignment(Qt::AlignRight | Qt::AlignVCenter);
    bound_->setTextFormat(Qt::PlainText);
    auto* budgetLabel = plainLabel(tr("Budget"), this);
    budgetLabel->setFont(smallFont());
    budget_->setToolTip(
        tr("Budget of a frame: milliseconds (16.67 ms) or a rate (60 per s). Empty: the recorded deadlines."));
    budget_->setPlaceholderText(tr("as recorded"));
    budget_->setAccessibleName(tr("Budget"));
    find_->setPlaceholderText(tr("Find, or frame number…"));
    find_->setToolTip(
        tr("Letters find markers, points and arguments (also key=value); a number goes to that frame. "
           "Ctrl+F"));
    find_->setAccessibleName(tr("Find a marker, an argument, a point, or go to a frame"));
    series_->setToolTip(tr("Frame series"));
    series_->setAccessibleName(tr("Frame series"));
    budgetLabel->setBuddy(budget_);
    auto* line = new QHBoxLayout(this);
    line->setContentsMargins(14, 2, 14, 2);
    line->setSpacing(8);
    auto* recorded = new QVBoxLayout;
    recorded->setSpacing(0);
    recorded->addStretch(1);
    recorded->addWidget(name_);
    recorded->addWidget(facts_);
    recorded->addStretch(1);
    line->addLayout(recorded);
    auto* verdict = new QVBoxLayout;
    verdict->setSpacing(0);
    verdict->addStretch(1);
    verdict->addWidget(sentence_);
    auto* bound = new QHBoxLayout;
    bound->setSpacing(14);
    bound->addStretch(1);
    bound->addWidget(bound_);
    bound->addWidget(legend_);
    bound->addStretch(1);
    verdict->addLayout(bound);
    verdict->addStretch(1);
    line->addLayout(verdict, 1);
    line->addWidget(series_);
    line->addWidget(budgetLabel);
    line->addWidget(budget_);
    line->addWidget(find_);
    setFixedHeight(40);
}

/// Escape leaves a field as it was.
bool VerdictBar::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress && static_cast<QKeyEvent*>(event)->key() == Qt::Key_Escape) {
        if (watched == budget_) {
            budget_->setModified(false);
            showBudget();
        }
        if (watched == find_) {
            find_->clear();
            markWrong(find_, false);
        }
        emit done();
        return true;
    }
    return QWidget::eventFilter(watched, event);
}

QString VerdictBar::sentence() const { return sentence_->text(); }

void VerdictBar::paintEvent(QPaintEvent*) {
    QPainter painter(this);
    painter.fillRect(rect(), theme().panel);
    painter.fillRect(QRect(0, height() - 1, width(), 1), theme().line);
}

/// In narrow windows the fields leave room to the sentence.
void VerdictBar::resizeEvent(QResizeEvent*) {
    const bool narrow = width() < 1000;
    budget_->setFixedWidth(narrow ? 142 : 158);
    find_->setFixedWidth(narrow ? 112 : 172);
}

void VerdictBar::takeRecording() {
    const auto& r = document_.recording();
    const bool any = r != nullptr;
    fillSeries();
    budget_->setEnabled(any && !r->series.empty());
    find_->setEnabled(any);
    if (!any) {
        name_->setText("Fugato");
        facts_->clear();
        sentence_->clear();
        bound_->hide();
        legend_->setExplanation(nullptr);
        return;
    }
    const auto context = [&](const char* key) {
        const auto found = r->context.find(key);
        return found == r->context.end() ? QString() : toQString(found->second);
    };
    const QString program = context("program");
    name_->setText(program.isEmpty() ? shown(QFileInfo(document_.path()).completeBaseName()) : program);
    QStringList facts;
    if (!context("build").isEmpty()) facts << tr("build %1").arg(context("build"));
    facts << toQString(durationText(r->end - r->begin));
    if (r->growing) facts << tr("still recording");
    facts_->setText(facts.join(" · "));
    QString all = shown(document_.path());
    for (const auto& [key, value] : r->context) all += "\n" + toQString(key) + ": " + toQString(value);
    facts_->setToolTip(plainTip(all));
    takeExplanation();
}

/// Those with frames, the shown one selected. A list that is open, or is right already, stays as it is.
void VerdictBar::fillSeries() {
    const auto& r = document_.recording();
    QList<std::pair<QString, uint32_t>> wanted;
    for (uint32_t i = 0; r && i < r->series.size(); ++i)
        if (!r->series[i].frames.empty()) wanted << std::pair(toQString(r->series[i].name), i);
    bool same = wanted.size() == series_->count();
    for (int at = 0; same && at < series_->count(); ++at)
        same = series_->itemText(at) == wanted[at].first && series_->itemData(at).toUInt() == wanted[at].second;
    if (!same && !series_->view()->isVisible()) {
        series_->clear();
        for (const auto& [name, index] : wanted) series_->addItem(name, index);
    }
    if (!series_->view()->isVisible()) series_->setCurrentIndex(series_->findData(document_.series()));
    series_->setVisible(series_->count() > 1);
}

void VerdictBar::takeExplanation() {
    const auto& e = document_.explanation();
    const bool explained = e && !e->frames.empty();
    const auto& prediction = document_.trials().prediction();
    QString sentence = explained && prediction ? toQString(trialSentence(*e, *prediction))
                       : explained             ? toQString(verdictSentence(*e))
                       : document_.recording() ? document_.whyUnexplained()
                                               : QString();
    bound_->setText(!explained   ? QString()
                    : prediction ? tr("simulated only: what is pale in the strip would be gone")
                                 : toQString(boundPhrase(*e)));
    if (explained && !e->scope.whole())
        bound_->setText(tr("only %1").arg(toQString(scopeText(*e))) +
                        (bound_->text().isEmpty() ? QString() : " · " + bound_->text()));
    bound_->setVisible(!bound_->text().isEmpty());
    legend_->setExplanation(explained ? e.get() : nullptr);
    const QString advice =
        explained ? toQString(measuringAdvice(*document_.recording(), e->pathSums->measuring)) : QString();
    if (!advice.isEmpty() && !prediction)
        sentence += tr("; measuring took %1 %").arg(e->pathSums->measuring.share * 100, 0, 'f', 1);
    sentence_->setText(sentence);
    sentence_->setToolTip(
        plainTip(e ? tr("%1 · median %2 · 95th percentile %3 · 99th %4 · worst %5")
                             .arg(toQString(plural(e->figures.frames, "frame", "frames")),
                                  toQString(durationText(e->figures.p50)), toQString(durationText(e->figures.p95)),
                                  toQString(durationText(e->figures.p99)), toQString(durationText(e->figures.worst))) +
                         (advice.isEmpty() ? QString() : "\n" + advice)
                   : QString()));
    showBudget();
}

void VerdictBar::showBudget() {
    if (budget_->hasFocus() && budget_->isModified()) return;  // the person is typing
    const auto& e = document_.explanation();
    QString text;
    if (document_.budget()) {
        text = writeBudget(document_.budget());
    } else if (e && !e->frames.empty()) {
        const FrameGroup all = e->groupOfAll();
        if (all.leastDeadline == all.greatestDeadline) text = writeBudget(all.leastDeadline);
    }
    budget_->setText(text);
    budget_->setModified(false);
    budget_->setCursorPosition(0);
    markWrong(budget_, false);
}

void VerdictBar::applyBudget() {
    if (!budget_->isModified()) return;
    const BudgetReading reading = readBudget(budget_->text());
    markWrong(budget_, !reading.ns);
    if (!reading.ns) {
        emit said(reading.wrong);
        return;
    }
    budget_->setModified(false);
    if (*reading.ns == document_.budget()) showBudget();
    document_.setBudget(*reading.ns);
}

void VerdictBar::applyFind() {
    const auto& e = document_.explanation();
    const QString words = find_->text().trimmed();
    if (words.isEmpty()) return;
    QString digits = words;
    digits.remove(QRegularExpression("[\\s\\x{202f},.]"));
    bool number = false;
    const qulonglong frame = digits.toULongLong(&number);
    if (!number || !e || e->frames.empty()) {
        markWrong(find_, false);
        emit wanted(words);
        emit done();
        return;
    }
    const bool good = frame < e->frames.size();
    markWrong(find_, !good);
    if (!good) {
        emit said(tr("There is no frame “%1”. Frames run from 0 to %2.").arg(words).arg(e->frames.size() - 1));
        return;
    }
    find_->clear();
    selection_.chooseFrame(static_cast<uint32_t>(frame));
    emit done();
}

}  // namespace fugato
