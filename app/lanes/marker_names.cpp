// SPDX-License-Identifier: GPL-3.0-or-later
#include "marker_names.h"

#include <QFontMetricsF>
#include <QTextLayout>
#include <algorithm>

#include "app/theme/theme.h"
#include "app/theme/words.h"

namespace fugato {

namespace {
constexpr int kMostLetters = 120, kLeastLetters = 2;
constexpr double kDots = 9;  // pixels

/// Of the first n letters of a name, for every n. The name is shaped once, and only where its letters do not simply
/// follow one another (it mixes directions of writing), once for each n.
std::vector<float> widthsOf(const QString& name, const QFont& font) {
    std::vector<float> widths{0};
    QTextLayout layout(name, font);
    layout.beginLayout();
    const QTextLine line = layout.createLine();
    layout.endLayout();
    if (!line.isValid()) return widths;
    const double from = line.cursorToX(0);
    for (int n = 1; n <= name.size(); ++n) widths.push_back(static_cast<float>(std::abs(line.cursorToX(n) - from)));
    if (std::is_sorted(widths.begin(), widths.end())) return widths;
    const QFontMetricsF metrics(font);
    for (int n = 1; n <= name.size(); ++n)
        widths[static_cast<size_t>(n)] = static_cast<float>(metrics.horizontalAdvance(name.left(n)));
    return widths;
}

}  // namespace

void MarkerNames::setRecording(std::shared_ptr<const Recording> recording) {
    recording_ = std::move(recording);
    forget();
}

void MarkerNames::forget() {
    texts_.clear();
    widths_.clear();
    if (recording_) widths_.resize(recording_->sites.size());
}

int MarkerNames::lettersIn(uint32_t site, double width) {
    auto& widths = widths_[site];
    if (widths.empty()) widths = widthsOf(toQString(recording_->sites[site].name).left(kMostLetters), smallFont());
    if (widths.back() <= width) return static_cast<int>(widths.size()) - 1;
    const auto after = std::upper_bound(widths.begin(), widths.end(), static_cast<float>(width - kDots));
    return std::max(0, static_cast<int>(after - widths.begin()) - 1);
}

const QStaticText* MarkerNames::fitting(uint32_t site, double width) {
    const int letters = lettersIn(site, width), all = static_cast<int>(widths_[site].size()) - 1;
    if (letters < std::min(kLeastLetters, std::max(all, 1))) return nullptr;
    const auto [at, isNew] = texts_.try_emplace(static_cast<uint64_t>(site) << 32 | static_cast<uint32_t>(letters));
    if (isNew) {
        const QString name = toQString(recording_->sites[site].name).left(kMostLetters);
        at->second.setText(letters < name.size() ? name.left(letters) + "…" : name);
        at->second.setTextFormat(Qt::PlainText);
        at->second.setPerformanceHint(QStaticText::AggressiveCaching);
        at->second.prepare({}, smallFont());
    }
    return &at->second;
}

}  // namespace fugato
