// SPDX-License-Identifier: GPL-3.0-or-later
//
// The budget as people write it: milliseconds ("16.67", "16.67 ms") or a rate ("60 per s", "60/s", "60 Hz").
#pragma once

#include <QString>
#include <optional>

namespace fugato {

struct BudgetReading {
    std::optional<int64_t> ns;  // 0: as recorded (nothing was written)
    QString wrong;              // a sentence where it could not be read
};
BudgetReading readBudget(const QString& text);
/// "16.67 ms · 60 per s"
QString writeBudget(int64_t ns);

}  // namespace fugato
