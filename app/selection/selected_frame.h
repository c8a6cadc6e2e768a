// SPDX-License-Identifier: GPL-3.0-or-later
//
// What is told and drawn of the selected frame, worked out on another thread and once for all panels. Until it is
// there, they show the frame before. Interface thread only.
#pragma once

#include <QElapsedTimer>
#include <QTimer>

#include "app/document/document.h"
#include "app/work/background_query.h"
#include "core/explain/words/explained_frame.h"
#include "selection.h"

namespace fugato {

class SelectedFrame : public QObject {
    Q_OBJECT
public:
    SelectedFrame(Document& document, Selection& selection, QObject* parent = nullptr);
    /// Null where none is selected, or it takes longer than one waits.
    const std::shared_ptr<const ExplainedFrame>& shown() const { return shown_; }
    bool busy() const { return query_.busy(); }

signals:
    void changed();

private:
    void take();
    void set(std::shared_ptr<const ExplainedFrame> frame);

    Document& document_;
    Selection& selection_;
    std::shared_ptr<const ExplainedFrame> shown_;
    std::shared_ptr<const Explanation> asked_;
    uint32_t askedFrame_ = kNone;
    BackgroundQuery query_;
    QTimer patience_;
    QElapsedTimer sinceAsked_;
};

}  // namespace fugato
