// SPDX-License-Identifier: GPL-3.0-or-later
//
// One recording of the list: program, when, its own small strip, how much of it was late and why.
#pragma once

#include <QAbstractButton>

#include "recording_facts.h"

namespace fugato {

class RecordingCard : public QAbstractButton {
    Q_OBJECT
public:
    RecordingCard(const QString& path, QWidget* parent = nullptr);
    const QString& path() const { return path_; }
    void setFacts(std::shared_ptr<const RecordingFacts> facts);
    bool hasFacts() const { return facts_ != nullptr; }
    QSize sizeHint() const override;

protected:
    void paintEvent(QPaintEvent* event) override;

private:
    QString title() const;
    QStringList lesser() const;   // below the title
    QStringList figures() const;  // at the right; the last one, the cause, is bold
    void describe();

    const QString path_;
    QString fileName_, when_, size_;
    std::shared_ptr<const RecordingFacts> facts_;
};

}  // namespace fugato
