// SPDX-License-Identifier: GPL-3.0-or-later
#include "selected_frame.h"

namespace fugato {

namespace {
constexpr int kPatienceMs = 150, kAgainEveryMs = 2000;
}

SelectedFrame::SelectedFrame(Document& document, Selection& selection, QObject* parent)
    : QObject(parent), document_(document), selection_(selection) {
    patience_.setSingleShot(true);
    patience_.setInterval(kPatienceMs);
    connect(&patience_, &QTimer::timeout, this, [this] { set(nullptr); });
    connect(&document, &Document::recordingChanged, this, [this] {
        query_.silence();
        patience_.stop();
        asked_.reset();
        set(nullptr);
    });
    connect(&document, &Document::explanationChanged, this, [this](bool fresh) {
        if (!fresh) return;
        set(nullptr);  // its frames are others
        take();
    });
    connect(&document, &Document::contentChanged, this, [this] {
        // What is usual changes little by little: a frame that is read is explained again only now and then.
        const auto& e = document_.explanation();
        const bool same =
            e && asked_ && asked_->budget == e->budget && asked_->scope == e->scope && asked_->symbols == e->symbols;
        const bool fresh =
            same && shown_ && shown_->frame == selection_.frame() && sinceAsked_.elapsed() < kAgainEveryMs;
        if (!document_.growing() || (!query_.busy() && !fresh)) take();
    });
    connect(&selection, &Selection::chosenChanged, this, &SelectedFrame::take);
}

void SelectedFrame::set(std::shared_ptr<const ExplainedFrame> frame) {
    if (frame == shown_) return;
    shown_ = std::move(frame);
    emit changed();
}

void SelectedFrame::take() {
    const auto& e = document_.explanation();
    const uint32_t frame = selection_.frame();
    if (!e || frame >= e->frames.size()) {
        query_.silence();
        patience_.stop();
        asked_.reset();
        return set(nullptr);
    }
    if (asked_ == e && askedFrame_ == frame) return;
    asked_ = e;
    askedFrame_ = frame;
    sinceAsked_.start();
    if (!shown_ || shown_->frame != frame) patience_.start();
    query_.ask([e, frame](const Progress&) { return explainedFrame(e, frame); },
               [this](const std::shared_ptr<const ExplainedFrame>& made) {
                   patience_.stop();
                   set(made);
               });
}

}  // namespace fugato
