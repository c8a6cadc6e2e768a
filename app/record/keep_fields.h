// SPDX-License-Identifier: GPL-3.0-or-later
//
// Whether all of a recording is kept, or only what lies around moments, and which these are.
#pragma once

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QSpinBox>
#include <QWidget>
#include <fugato_moments.hpp>
#include <optional>

namespace fugato {

class KeepFields : public QWidget {
    Q_OBJECT
public:
    explicit KeepFields(QWidget* parent = nullptr);
    QComboBox& kind() { return *kind_; }
    /// Nothing: all is kept.
    std::optional<MomentPlan> moments() const;
    void take(const std::optional<MomentPlan>& moments);

private:
    QComboBox* kind_;
    QWidget* fields_;
    QCheckBox *frameIs_, *usualIs_, *lateIs_, *errors_;
    QDoubleSpinBox *frame_, *usual_;
    QSpinBox *late_, *outOf_, *before_, *after_;
};

}  // namespace fugato
