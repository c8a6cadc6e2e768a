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
    const std::shared_ptr<const RecordingFacts>& facts() const { return facts_; }
    /// Bytes of the file; 0 where it is gone.
    qint64 bytes() const { return bytes_; }
    const QDateTime& modified() const { return modified_; }
    /// Empty where nothing is known of it yet.
    RecordingNote note() const { return facts_ ? facts_->note : RecordingNote(); }
    bool growing() const { return facts_ && facts_->growing; }
    /// Whether its texts (title, note, tags, cause, path…) contain every one of the words.
    bool holds(const QStringList& words) const;
    QString title() const;
    QSize sizeHint() const override;

signals:
    void describeWanted();
    void binWanted();

protected:
    void paintEvent(QPaintEvent* event) override;
    void keyPressEvent(QKeyEvent* event) override;
    void contextMenuEvent(QContextMenuEvent* event) override;

private:
    QStringList lesser() const;   // below the title
    QStringList figures() const;  // at the right; the last one, the cause, is bold
    void describe();

    const QString path_;
    QString fileName_, when_, size_;
    qint64 bytes_ = 0;
    QDateTime modified_;
    std::shared_ptr<const RecordingFacts> facts_;
};

}  // namespace fugato
