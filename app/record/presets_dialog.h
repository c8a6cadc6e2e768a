// SPDX-License-Identifier: GPL-3.0-or-later
//
// The presets of what to collect: what each holds, what of it can be had on this machine, what it costs here. Own ones
// are made, changed and removed.
#pragma once

#include <QCheckBox>
#include <QDialog>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QPushButton>
#include <vector>

#include "app/work/background_query.h"
#include "collect_presets.h"
#include "session/collecting.h"

namespace fugato {

class PresetsDialog : public QDialog {
    Q_OBJECT
public:
    explicit PresetsDialog(QWidget* parent = nullptr);
    ~PresetsDialog() override;
    QListWidget& list() { return *list_; }
    QLineEdit& name() { return *name_; }
    QPushButton& add() { return *add_; }
    QPushButton& remove() { return *remove_; }
    QPushButton& measure() { return *measure_; }
    QCheckBox& box(const QString& word);
    QString cost() const { return cost_->text(); }
    bool busy() const { return asking_.busy() || measuring_.busy(); }

private:
    struct Part {
        QString word;
        QCheckBox* box;
        QLabel* told;
    };
    void layOut();
    void copyPreset();
    void measureOrCancel();
    void showPreset();
    void change();
    void tellCost();
    void tellPossible(const std::vector<Collectable>& all);

    QList<CollectPreset> presets_;
    QListWidget* list_;
    QLineEdit* name_;
    std::vector<Part> parts_;
    QLabel *about_, *cost_;
    QPushButton *add_, *remove_, *measure_;
    BackgroundQuery asking_, measuring_;
    bool showing_ = false;
};

}  // namespace fugato
