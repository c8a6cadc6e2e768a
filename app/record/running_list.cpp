// SPDX-License-Identifier: GPL-3.0-or-later
#include "running_list.h"

#include <QAbstractButton>
#include <QDateTime>
#include <QLabel>
#include <QPainter>
#include <QVBoxLayout>

#include "app/parts/card.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

namespace {

constexpr int kLookEveryMs = 1000, kHeight = 46, kSide = 14;

}  // namespace

/// One running program: a click joins it, or opens the recording that is being made of it.
class RunningCard : public QAbstractButton {
public:
    explicit RunningCard(const RunningProgram& program) {
        setFocusPolicy(Qt::StrongFocus);
        setSizePolicy(QSizePolicy::Expanding, QSizePolicy::Fixed);
        setFixedHeight(kHeight);
        take(program);
    }
    const RunningProgram& program() const { return program_; }
    void take(const RunningProgram& program) {
        program_ = program;
        setEnabled(program.trouble.empty());
        setToolTip(plainTip(shown(toQString(program.executable))));
        setAccessibleName(title() + ", " + lesser() + ", " + action());
        update();
    }

protected:
    void paintEvent(QPaintEvent*) override {
        QPainter painter(this);
        paintCard(painter, *this);
        const Theme& t = theme();
        const QRect inside = rect().adjusted(kSide, 5, -kSide, -5);
        painter.setFont(boldFont());
        const int right = painter.fontMetrics().horizontalAdvance(action()) + 2;
        const auto line = [&](const QRect& box, const QFont& font, const QColor& color, const QString& text,
                              Qt::Alignment side) {
            painter.setFont(font);
            painter.setPen(color);
            painter.drawText(box, static_cast<int>(side | Qt::AlignVCenter),
                             painter.fontMetrics().elidedText(text, Qt::ElideRight, box.width()));
        };
        const int half = inside.height() / 2;
        line({inside.left(), inside.top(), inside.width() - right - 12, half}, boldFont(),
             isEnabled() ? t.text : t.muted, title(), Qt::AlignLeft);
        line({inside.left(), inside.top() + half, inside.width(), half}, smallFont(), t.muted, lesser(), Qt::AlignLeft);
        line({inside.right() - right, inside.top(), right, half}, boldFont(), t.path, action(), Qt::AlignRight);
    }

private:
    QString title() const { return toQString(program_.name); }
    QString action() const {
        if (!program_.trouble.empty()) return {};
        return program_.recorded == RunningProgram::Recorded::No ? tr("Join") : tr("Open its recording");
    }
    QString lesser() const {
        if (!program_.trouble.empty()) return toQString(program_.trouble);
        QStringList parts;
        if (!program_.build.empty()) parts << tr("build %1").arg(toQString(program_.build));
        parts << (program_.device.empty()
                      ? tr("process %1").arg(program_.process)
                      : tr("process %1 on %2").arg(program_.process).arg(toQString(program_.device)));
        if (program_.sinceUnixNs) {
            const int64_t now = QDateTime::currentMSecsSinceEpoch() * 1'000'000;
            const int64_t seconds = std::max<int64_t>(0, now - *program_.sinceUnixNs) / 1'000'000'000;
            parts << (seconds < 60     ? tr("running for %1 s").arg(seconds)
                      : seconds < 3600 ? tr("running for %1 min").arg(seconds / 60)
                                       : tr("running for %1 h %2 min").arg(seconds / 3600).arg(seconds / 60 % 60));
        }
        if (program_.framesPerSecond) parts << tr("%1 frames a second").arg(*program_.framesPerSecond, 0, 'f', 1);
        return parts.join(" · ");
    }
    RunningProgram program_;
};

RunningList::RunningList(const QString& whenNone, QWidget* parent)
    : QWidget(parent), none_(plainLabel()), whenNone_(whenNone), lines_(new QVBoxLayout(this)) {
    lines_->setContentsMargins(0, 0, 0, 0);
    lines_->setSpacing(6);
    none_->setObjectName("lesser");
    none_->setWordWrap(true);
    none_->setText(whenNone_);
    lines_->addWidget(none_);
    again_.setInterval(kLookEveryMs);
    connect(&again_, &QTimer::timeout, this, &RunningList::look);
}

QWidget* RunningList::card(int at) const { return cards_[static_cast<size_t>(at)]; }

void RunningList::showEvent(QShowEvent*) {
    look();
    again_.start();
}

void RunningList::hideEvent(QHideEvent*) { again_.stop(); }

void RunningList::look() {
    if (looking_.busy()) return;  // `running_` is used by one question at a time
    looking_.ask(
        [running = running_](const Progress&) {
            auto looked = std::make_shared<Looked>();
            if (auto programs = running->look())
                looked->programs = std::move(*programs);
            else
                looked->trouble = programs.failure().sentence;
            return std::shared_ptr<const Looked>(looked);
        },
        [this](const std::shared_ptr<const Looked>& looked) { show(*looked); });
}

/// Those that stay keep their place in the keyboard's order, and the keyboard.
void RunningList::show(const Looked& looked) {
    none_->setText(looked.trouble.empty() ? whenNone_ : shown(toQString(looked.trouble)));
    none_->setVisible(looked.programs.empty());
    std::vector<RunningCard*> now;
    for (const RunningProgram& program : looked.programs) {
        const auto known = std::find_if(cards_.begin(), cards_.end(), [&](RunningCard* card) {
            return card && card->program().socket == program.socket;
        });
        if (known != cards_.end()) {
            (*known)->take(program);
            now.push_back(std::exchange(*known, nullptr));
            continue;
        }
        auto* card = new RunningCard(program);
        connect(card, &QAbstractButton::clicked, this, [this, card] {
            if (card->program().recorded == RunningProgram::Recorded::No)
                emit chosen(card->program());
            else if (!card->program().recording.empty())
                emit recordingWanted(toQString(card->program().recording));
        });
        now.push_back(card);
    }
    for (RunningCard* gone : cards_) delete gone;
    cards_ = std::move(now);
    for (size_t i = 0; i < cards_.size(); ++i) lines_->insertWidget(static_cast<int>(i), cards_[i]);
}

}  // namespace fugato
