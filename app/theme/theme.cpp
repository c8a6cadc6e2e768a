// SPDX-License-Identifier: GPL-3.0-or-later
#include "theme.h"

#include <QApplication>
#include <QPainter>
#include <QPalette>

namespace fugato {

namespace {

bool darkInUse = false;

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
    static const Theme light{false,     "#fffef9", "#f7f3ea", "#e2dacb", "#242a35", "#68645b", "#ece5d8",
                             "#cfc4b1", "#2f3136", "#f3f5f5", "#c3cdd4", "#8e2f6b", "#c583ab", "#ecd3e2",
                             "#ffffff", "#c3d2d3", "#4f7478", "#ece4d6", "#1f4e8c", "#eaf1f1", "#fbeecb"};
    return light;
}

const Theme& darkTheme() {
    static const Theme dark{true,      "#1c1e23", "#25282e", "#3b3f48", "#e9e5dc", "#a9a59b", "#34373e",
                            "#4d515b", "#dcd8cf", "#23282e", "#46535f", "#d873b1", "#a2527f", "#52344a",
                            "#1c1e23", "#3f575c", "#8fb8bc", "#32353c", "#82b4f2", "#26363a", "#4a3f22"};
    return dark;
}

const Theme& theme() { return darkInUse ? darkTheme() : lightTheme(); }

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
        QSplitter::handle { background: %3; }
        QLineEdit { background: %1; color: %4; border: 1px solid %3; border-radius: 5px; padding: 3px 8px; selection-background-color: %7; }
        QLineEdit:focus { border-color: %7; }
        QLineEdit[wrong="true"] { border-color: %8; }
        QComboBox QAbstractItemView { background: %1; color: %4; selection-background-color: %6; selection-color: %4; }
        QPushButton { background: %2; color: %4; border: 1px solid %3; border-radius: 5px; padding: 4px 14px; }
        QPushButton:hover, QPushButton:focus { border-color: %7; }
        QTreeView { background: %1; color: %4; border: none; alternate-background-color: %1; selection-background-color: %6; selection-color: %4; outline: none; }
        QTreeView::item { height: 19px; border: none; }
        QTreeView::item:selected { background: %6; color: %4; }
        QHeaderView { background: %1; }
        QHeaderView::section { background: %1; color: %5; border: none; border-bottom: 1px solid %3; padding: 3px 6px; font-weight: normal; }
        QHeaderView::up-arrow, QHeaderView::down-arrow { subcontrol-origin: padding; subcontrol-position: center left; width: 9px; height: 9px; left: 4px; }
        QToolTip { background: %2; color: %4; border: 1px solid %3; padding: 4px; }
        QProgressBar { background: %2; border: 1px solid %3; border-radius: 4px; height: 8px; }
        QProgressBar::chunk { background: %7; border-radius: 3px; }
        QScrollBar:vertical { background: transparent; width: 10px; margin: 0; }
        QScrollBar::handle:vertical { background: %3; border-radius: 4px; min-height: 24px; margin: 1px 2px; }
        QScrollBar::add-line, QScrollBar::sub-line { height: 0; width: 0; }
        QScrollBar:horizontal { background: transparent; height: 10px; margin: 0; }
        QScrollBar::handle:horizontal { background: %3; border-radius: 4px; min-width: 24px; margin: 2px 1px; }
        QLabel { color: %4; background: transparent; }
    )")
        .arg(n(paper), n(panel), n(line), n(text), n(muted), n(plumLight), n(path), n(plum));
}

void applyTheme(bool dark) {
    darkInUse = dark;
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
    QApplication::setPalette(palette);
    qApp->setStyleSheet(t.styleSheet());
}

QFont textFont() { return fontOf(12, QFont::Normal); }
QFont smallFont() { return fontOf(11, QFont::Normal); }
QFont smallBoldFont() { return fontOf(11, QFont::DemiBold); }
QFont boldFont() { return fontOf(12, QFont::DemiBold); }
QFont titleFont() { return fontOf(14, QFont::DemiBold); }

}  // namespace fugato
