// SPDX-License-Identifier: GPL-3.0-or-later
#include "budget_text.h"

#include <QRegularExpression>
#include <cmath>

namespace fugato {

BudgetReading readBudget(const QString& text) {
    QString words = text.trimmed().toLower();
    if (words.isEmpty() || words == "recorded") return {0, {}};
    words = words.section(QChar(0xb7), 0, 0).trimmed();  // what writeBudget() adds after the dot
    static const QRegularExpression form(
        R"(^([0-9]+(?:[.,][0-9]+)?)\s*(ms|us|µs|s|hz|fps|/s|per s|per second|a second)?$)");
    const auto match = form.match(words);
    const QString advice = QObject::tr("Write milliseconds (16.67 ms) or a rate (60 per s).");
    if (!match.hasMatch())
        return {std::nullopt, QObject::tr("“%1” is not a valid budget. %2").arg(text.trimmed(), advice)};
    QString digits = match.captured(1);
    const double number = digits.replace(',', '.').toDouble();
    const QString unit = match.captured(2);
    double ns = number * 1e6;
    if (unit == "s")
        ns = number * 1e9;
    else if (unit == "us" || unit == "µs")
        ns = number * 1e3;
    else if (!unit.isEmpty() && unit != "ms")
        ns = number > 0 ? 1e9 / number : 0;
    if (!(ns >= 1000) || ns > 3.6e12)
        return {std::nullopt, QObject::tr("“%1” is out of range: a frame takes between 1 µs and one hour. %2")
                                  .arg(text.trimmed(), advice)};
    return {static_cast<int64_t>(std::llround(ns)), {}};
}

QString writeBudget(int64_t ns) {
    const double rate = 1e9 / static_cast<double>(ns);
    const bool whole = std::abs(rate - std::round(rate)) < 0.005 * rate && rate >= 10;
    return QString("%1 ms · %2 per s").arg(static_cast<double>(ns) * 1e-6, 0, 'f', 2).arg(rate, 0, 'f', whole ? 0 : 2);
}

}  // namespace fugato
