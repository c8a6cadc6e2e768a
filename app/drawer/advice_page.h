// SPDX-License-Identifier: GPL-3.0-or-later
//
// Advice: findings beyond single spikes, each with its evidence, how sure it is and what to look at next. What
// the person has accepted stands below, also the next time a recording of this program is opened.
#pragma once

#include <QToolButton>
#include <set>

#include "core/explain/advice/advice.h"
#include "table_page.h"

namespace fugato {

class AdvicePage : public TablePage {
    Q_OBJECT
public:
    AdvicePage(Document& document, Selection& selection, QWidget* parent = nullptr);
    Words words() const override;
    const std::vector<Advice>* advice() const { return advice_.get(); }
    QToolButton& limitsButton() { return *limits_; }
    /// From when on file requests, allocations and messages are worth a finding; remembered.
    void setLimits(const AdviceLimits& limits);

protected:
    void showEvent(QShowEvent* event) override;

private:
    void takeExplanation();
    void fill(bool same);
    void accept(uint32_t finding, bool on);
    void askForLimits();
    QString program() const;

    QToolButton* limits_;
    std::shared_ptr<const Explanation> asked_;  // about which
    std::shared_ptr<const std::vector<Advice>> advice_;
    std::set<std::string> accepted_;  // keys of findings
};

}  // namespace fugato
