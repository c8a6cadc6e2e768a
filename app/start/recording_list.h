// SPDX-License-Identifier: GPL-3.0-or-later
//
// The person's recordings, newest first: searched, named, noted, moved to the bin; and the room they take.
#pragma once

#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QWidget>

#include "app/work/background_query.h"
#include "recording_card.h"

class QVBoxLayout;

namespace fugato {

class RecordingList : public QWidget {
    Q_OBJECT
public:
    explicit RecordingList(QWidget* parent = nullptr);
    /// Lists the recordings anew.
    void fill();
    /// Still working out what recordings hold.
    bool busy() const { return looking_.busy() || asking_.busy(); }
    QLineEdit& search() { return *search_; }
    QString room() const { return room_->text(); }
    QPushButton& undoBin() { return *undo_; }
    QPushButton& thinOut() { return *thin_; }
    QList<RecordingCard*> cards() const { return cards_; }
    /// What Undo would take out of the bin: where each was, where it is now.
    const QList<std::pair<QString, QString>>& binned() const { return binned_; }

    /// Those that "thin out" would move to the bin: older than so many days, without a name, tag or note, of the
    /// person's own folder, and not being made.
    QList<RecordingCard*> olderThan(int days) const;

signals:
    void recordingWanted(const QString& path);

protected:
    void hideEvent(QHideEvent* event) override;

private:
    void show(const QStringList& recordings);
    void askForNext();
    void filter();
    void tellRoom();
    void describe(RecordingCard* card);
    void toBin(const QList<RecordingCard*>& cards);
    void undoToBin();
    void askToThinOut();

    QVBoxLayout* list_;
    QLineEdit* search_;
    QLabel *none_, *room_, *said_;
    QPushButton *undo_, *thin_;
    QList<RecordingCard*> cards_;  // newest first
    BackgroundQuery looking_, asking_;
    QList<std::pair<QString, QString>> binned_;  // by the last step
};

}  // namespace fugato
