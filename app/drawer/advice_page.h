// SPDX-License-Identifier: GPL-3.0-or-later
//
// Advice: findings beyond single spikes, each with its evidence, how sure it is and what to look at next. What
// the person has accepted stands below, also the next time a recording of this program is opened.
#pragma once

#include <QSet>
#include <QStandardItemModel>
#include <QTreeView>

#include "app/document/asking.h"
#include "core/explain/advice/advice.h"
#include "page.h"

class QLabel;
class QToolButton;

namespace fugato {

class Document;
class Selection;

class AdvicePage : public DrawerPage {
    Q_OBJECT
public:
    enum Column { kWhat, kSure, kCost, kAccepted, kColumns };
    AdvicePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    QTreeView& tree() { return *tree_; }
    bool busy() const override { return asking_.busy(); }
    QString about() const;
    const std::vector<Advice>* advice() const { return advice_.get(); }
    QToolButton& limitsButton() { return *limits_; }
    /// From when on file requests, allocations and messages are worth a finding; remembered.
    static AdviceLimits limits();
    void setLimits(const AdviceLimits& limits);

protected:
    void showEvent(QShowEvent* event) override;

private:
    void ask();
    void fill();
    void follow(const QModelIndex& index);
    void askForLimits();
    QString settingsKey() const;

    Document& document_;
    Selection& selection_;
    QStandardItemModel model_;
    QTreeView* tree_;
    QLabel *title_, *about_;
    QToolButton* limits_;
    Asking asking_;
    std::shared_ptr<const Explanation> asked_;  // about which
    std::shared_ptr<const std::vector<Advice>> advice_;
    QSet<QString> accepted_;
};

}  // namespace fugato
