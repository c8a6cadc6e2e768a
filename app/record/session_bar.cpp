// SPDX-License-Identifier: GPL-3.0-or-later
#include "session_bar.h"

#include <QActionGroup>
#include <QHBoxLayout>
#include <QMenu>

#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "core/explain/words/quantities.h"

namespace fugato {

SessionBar::SessionBar(RecordingSession& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      words_(plainLabel()),
      saved_(plainLabel()),
      openSaved_(new QPushButton(tr("Open it"))),
      save_(new QPushButton(tr("Save the last seconds"))),
      detailButton_(new QPushButton(tr("Detail"))),
      end_(new QPushButton),
      detail_(new QMenu(this)) {
    setAutoFillBackground(true);
    words_->setFont(boldFont());
    words_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    saved_->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    detailButton_->setMenu(detail_);
    detailButton_->setToolTip(plainTip(tr("How much is recorded of each category, from now on")));
    auto* line = new QHBoxLayout(this);
    line->setContentsMargins(14, 4, 14, 4);
    line->addWidget(words_, 3);
    line->addWidget(saved_, 4);
    line->addWidget(openSaved_);
    line->addWidget(save_);
    line->addWidget(detailButton_);
    line->addWidget(end_);
    hide();
    connect(save_, &QPushButton::clicked, &session_, &RecordingSession::saveMoment);
    connect(end_, &QPushButton::clicked, &session_, &RecordingSession::end);
    connect(openSaved_, &QPushButton::clicked, this, [this] {
        emit recordingWanted(std::exchange(savedPath_, {}));
        tell();
    });
    connect(detail_, &QMenu::aboutToShow, this, &SessionBar::fillDetail);
    connect(&session_, &RecordingSession::changed, this, [this] {
        savedPath_.clear();
        tell();
    });
    connect(&session_, &RecordingSession::told, this, &SessionBar::tell);
    connect(&session_, &RecordingSession::saved, this, [this](const QString& path, const QString& because) {
        savedPath_ = path;
        saved_->setText(tr("Saved: %1").arg(because));
        saved_->setToolTip(plainTip(shown(path)));
        tell();
    });
}

void SessionBar::tell() {
    // What was saved last stays to be opened when the program has ended.
    setVisible(session_.runs() || !savedPath_.isEmpty());
    saved_->setVisible(!savedPath_.isEmpty());
    openSaved_->setVisible(!savedPath_.isEmpty());
    save_->setVisible(session_.runs() && session_.keepsMoments());
    detailButton_->setVisible(session_.state().has_value());
    detailButton_->setEnabled(!session_.categories().empty());
    end_->setVisible(session_.runs());
    end_->setText(session_.joined() ? tr("Leave it running") : tr("End the program"));
    if (!session_.runs()) return words_->setText({});
    QStringList parts{session_.keepsMoments() ? tr("Holding the last seconds of %1").arg(session_.name())
                                              : tr("Recording %1").arg(session_.name())};
    if (const auto& state = session_.state()) {
        QString frames = toQString(plural(state->frames, "frame", "frames"));
        if (session_.framesPerSecond() >= 0) frames += tr(", %1 a second").arg(session_.framesPerSecond(), 0, 'f', 1);
        parts << frames;
        if (state->saves) parts << tr("%n saved", nullptr, static_cast<int>(state->saves));
        if (state->lost) parts << toQString(plural(state->lost, "event lost", "events lost"));
        if (!state->status.empty()) parts << toQString(state->status);
    }
    words_->setText(parts.join("  ·  "));
    words_->setToolTip(plainTip(parts.join("\n")));
}

void SessionBar::fillDetail() {
    detail_->clear();
    const auto add = [&](const QString& name, const std::string& category, std::optional<int> now) {
        QMenu* const of = detail_->addMenu(name);
        auto* group = new QActionGroup(of);
        for (const auto& [level, words] : {std::pair(2, tr("Everything")),
                                           {1, tr("Coarse and fine")},
                                           {0, tr("Coarse only")},
                                           {-1, tr("Nothing")}}) {
            QAction* const one =
                of->addAction(words, this, [this, category, level = level] { session_.setDetail(category, level); });
            one->setCheckable(true);
            one->setChecked(now == level);
            group->addAction(one);
        }
    };
    add(tr("All categories"), {}, std::nullopt);
    detail_->addSeparator();
    for (const auto& [category, level] : session_.categories())
        add(category.empty() ? tr("Without a category") : shown(toQString(category)), category, level);
}

}  // namespace fugato
