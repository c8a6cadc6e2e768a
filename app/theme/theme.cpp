// SPDX-License-Identifier: GPL-3.0-or-later
#include "theme.h"

#include <QApplication>
#include <QPainter>
#include <QPalette>
#include <algorithm>
#include <cmath>

namespace fugato {

namespace {

const Theme* inUse = nullptr;  // null: light

/// WCAG 2.2, relative luminance.
double luminanceOf(const QColor& c) {
    const auto part = [](double v) { return v <= 0.03928 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4); };
    return 0.2126 * part(c.redF()) + 0.7152 * part(c.greenF()) + 0.0722 * part(c.blueF());
}

QColor mix(const QColor& a, const QColor& b, double part) {
    return QColor::fromRgbF(static_cast<float>(a.redF() + (b.redF() - a.redF()) * part),
                            static_cast<float>(a.greenF() + (b.greenF() - a.greenF()) * part),
                            static_cast<float>(a.blueF() + (b.blueF() - a.blueF()) * part));
}

QFont fontOf(int pixels, QFont::Weight weight) {
    QFont font = QApplication::font();
    font.setPixelSize(pixels);
    font.setWeight(weight);
    return font;
}

}  // namespace

const Theme& lightTheme() {
    static const Theme light{false,     "#fffef9", "#f7f3ea", "#e2dacb", "#242a35", "#605c53", "#ece5d8", "#8b8270",
                             "#2f3136", "#f3f5f5", "#7f8a91", "#8e2f6b", "#bd7aa3", "#ecd3e2", "#ffffff", "#b4c6c8",
                             "#4f7478", "#ece4d6", "#1f4e8c", "#eaf1f1", "#fbeecb", "#8b8270"};
    return light;
}

const Theme& darkTheme() {
    static const Theme dark{true,      "#1c1e23", "#25282e", "#3b3f48", "#e9e5dc", "#b1ada3", "#34373e", "#7d828d",
                            "#dcd8cf", "#23282e", "#72808b", "#d873b1", "#a9578a", "#52344a", "#1c1e23", "#486469",
                            "#8fb8bc", "#32353c", "#82b4f2", "#26363a", "#4a3f22", "#7d828d"};
    return dark;
}

const Theme& lightContrastTheme() {
    static const Theme light{false,     "#ffffff", "#ffffff", "#000000", "#000000", "#1f1f1f", "#ffffff", "#000000",
                             "#000000", "#ffffff", "#000000", "#7a0050", "#a03078", "#ffd9ee", "#ffffff", "#7a8f91",
                             "#003b40", "#f0f0f0", "#002f8a", "#ffffff", "#fff6cf", "#000000"};
    return light;
}

const Theme& darkContrastTheme() {
    static const Theme dark{true,      "#000000", "#000000", "#ffffff", "#ffffff", "#e6e6e6", "#000000", "#ffffff",
                            "#ffffff", "#000000", "#ffffff", "#ff9ad8", "#d873b1", "#5a2a48", "#000000", "#6f8c90",
                            "#b0f0f4", "#202020", "#9cc8ff", "#000000", "#3d3500", "#ffffff"};
    return dark;
}

const Theme& theme() { return inUse ? *inUse : lightTheme(); }

double contrastOf(const QColor& a, const QColor& b) {
    const double x = luminanceOf(a), y = luminanceOf(b);
    return (std::max(x, y) + 0.05) / (std::min(x, y) + 0.05);
}

QColor wordsOn(const QColor& ground) {
    return contrastOf(ground, Qt::black) > contrastOf(ground, Qt::white) ? Qt::black : Qt::white;
}

QColor Theme::tint(int number) const {
    constexpr int kHues[kTints] = {38, 96, 168, 205, 268, 12};  // ochre, moss, sea, sky, heather, clay
    const int hue = kHues[std::clamp(number, 1, kTints) - 1];
    return dark ? QColor::fromHsl(hue, 80, 92) : QColor::fromHsl(hue, 85, 192);
}

QColor Theme::highlight(double strength) const {
    if (strength <= 0) return marker;
    if (strength < 0.5) return mix(plumLight, plumMiddle, strength * 2);
    return mix(plumMiddle, plum, (std::min(strength, 1.0) - 0.5) * 2);
}

void Theme::paintHatched(QPainter& painter, const QRectF& box, const QColor& color) const {
    painter.fillRect(box, waiting);
    painter.fillRect(box, QBrush(color, Qt::BDiagPattern));
    painter.setPen(color);
    painter.setBrush(Qt::NoBrush);
    painter.drawRect(box.adjusted(0.5, 0.5, -0.5, -0.5));
}

QString Theme::styleSheet() const {
    const auto n = [](const QColor& c) { return c.name(); };
    return QString(R"(
        QMainWindow, QDialog { background: %1; }
        QMenuBar { background: %1; color: %4; border-bottom: 1px solid %3; padding: 1px 6px; }
        QMenuBar::item { padding: 3px 9px; background: transparent; }
        QMenuBar::item:selected, QMenu::item:selected { background: %6; color: %4; }
        QMenu { background: %1; color: %4; border: 1px solid %3; }
        QMenu::item { padding: 4px 26px 4px 20px; }
        QMenu::item:disabled { color: %5; }
        QMenu::separator { height: 1px; background: %3; margin: 3px 8px; }
        QStatusBar { background: %2; color: %5; border-top: 1px solid %3; }
        QStatusBar QLabel { color: %5; padding: 0 8px; }
        QSplitter::handle { background: %9; }
        QLineEdit { background: %1; color: %4; border: 1px solid %9; border-radius: 5px; padding: 3px 8px; selection-background-color: %7; }
        QLineEdit:focus { border-color: %7; }
        QLineEdit[wrong="true"] { border-color: %8; }
        QComboBox QAbstractItemView { background: %1; color: %4; selection-background-color: %6; selection-color: %4; }
        QPushButton { background: %2; color: %4; border: 1px solid %9; border-radius: 5px; padding: 4px 14px; }
        QPushButton#primary { background: %7; color: %1; border-color: %7; padding: 6px 14px; }
        QPushButton#primary:focus { border: 2px solid %4; padding: 5px 13px; }
        QTabBar:focus, QComboBox:focus, QToolButton:focus { border: 1px solid %7; }
        QToolButton[chip="true"] { border: 1px solid %3; border-radius: 9px; padding: 1px 9px; background: %1; color: %4; }
        QToolButton[chip="true"]:hover, QToolButton[chip="true"]:focus { border-color: %7; }
        QToolButton[chip="true"]:checked { background: %6; border-color: %7; }
        QPushButton:disabled { color: %5; }
        QLabel#lesser { color: %5; }
        QPushButton:hover, QPushButton:focus { border-color: %7; }
        QTreeView { background: %1; color: %4; border: 1px solid %1; alternate-background-color: %1; selection-background-color: %6; selection-color: %4; outline: none; }
        QTreeView:focus { border-color: %7; }
        QTreeView::item { height: 19px; border: none; }
        QTreeView::item:selected { background: %6; color: %4; }
        QHeaderView { background: %1; }
        QHeaderView::section { background: %1; color: %5; border: none; border-bottom: 1px solid %3; padding: 3px 6px; font-weight: normal; }
        QHeaderView::up-arrow, QHeaderView::down-arrow { subcontrol-origin: padding; subcontrol-position: center left; width: 9px; height: 9px; left: 4px; }
        QToolTip { background: %2; color: %4; border: 1px solid %3; padding: 4px; }
        QProgressBar { background: %2; border: 1px solid %3; border-radius: 4px; height: 8px; }
        QProgressBar::chunk { background: %7; border-radius: 3px; }
        QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
        QScrollBar::handle:vertical { background: %9; border-radius: 4px; min-height: 24px; margin: 1px 2px; }
        QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
        QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
        QScrollBar::handle:horizontal { background: %9; border-radius: 4px; min-width: 24px; margin: 2px 1px; }
        QLabel { color: %4; background: transparent; }
    )")
        .arg(n(paper), n(panel), n(line), n(text), n(muted), n(plumLight), n(path), n(plum), n(handle));
}

void applyTheme(bool dark, bool highContrast) {
    inUse = highContrast ? &(dark ? darkContrastTheme() : lightContrastTheme()) : &(dark ? darkTheme() : lightTheme());
    const Theme& t = theme();
    QPalette palette;
    palette.setColor(QPalette::Window, t.paper);
    palette.setColor(QPalette::Base, t.paper);
    palette.setColor(QPalette::AlternateBase, t.panel);
    palette.setColor(QPalette::Text, t.text);
    palette.setColor(QPalette::WindowText, t.text);
    palette.setColor(QPalette::Button, t.panel);
    palette.setColor(QPalette::ButtonText, t.text);
    palette.setColor(QPalette::Highlight, t.plumLight);
    palette.setColor(QPalette::HighlightedText, t.text);
    palette.setColor(QPalette::PlaceholderText, t.muted);
    palette.setColor(QPalette::ToolTipBase, t.panel);
    palette.setColor(QPalette::ToolTipText, t.text);
    palette.setColor(QPalette::Link, t.path);
    for (const auto role : {QPalette::ButtonText, QPalette::Text, QPalette::WindowText})
        palette.setColor(QPalette::Disabled, role, t.muted);
    QApplication::setPalette(palette);
    qApp->setStyleSheet(t.styleSheet());
}

QFont textFont() { return fontOf(12, QFont::Normal); }
QFont smallFont() { return fontOf(11, QFont::Normal); }
QFont smallBoldFont() { return fontOf(11, QFont::DemiBold); }
QFont boldFont() { return fontOf(12, QFont::DemiBold); }
QFont codeFont() {
    QFont font = fontOf(12, QFont::Normal);
    font.setFamilies({"DejaVu Sans Mono", "Monospace"});
    font.setStyleHint(QFont::Monospace);
    return font;
}
QFont titleFont() { return fontOf(14, QFont::DemiBold); }

}  // namespace fugato
