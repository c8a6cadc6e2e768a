// SPDX-License-Identifier: GPL-3.0-or-later
#include "view_picture.h"

#include <QBuffer>
#include <QCoreApplication>
#include <QImage>
#include <QPainter>
#include <QSaveFile>
#include <QSvgGenerator>

#include "app/theme/words.h"

namespace fugato {

namespace {

constexpr int kMostPixels = 32'000;        // along one side
constexpr qint64 kMostArea = 250'000'000;  // pixels, 1 GB

QString tooLarge(const QSize& size) {
    return QCoreApplication::translate("ViewPicture",
                                       "A picture of %1 x %2 pixels is too large. Choose a smaller one, or SVG.")
        .arg(size.width())
        .arg(size.height());
}

QString notWritten(const QString& path) {
    return QCoreApplication::translate("ViewPicture",
                                       "%1 could not be written. Is there room, and may you write there?")
        .arg(shown(path));
}

bool write(const QString& path, const std::function<bool(QIODevice&)>& fill) {
    QSaveFile file(path);
    return file.open(QIODevice::WriteOnly) && fill(file) && file.commit();
}

QByteArray svgOf(const ViewPicture& view) {
    QByteArray bytes;
    QBuffer buffer(&bytes);
    QSvgGenerator svg;
    svg.setOutputDevice(&buffer);
    svg.setSize(view.size);
    svg.setViewBox(QRect(QPoint(0, 0), view.size));
    svg.setTitle(view.name);
    QPainter painter(&svg);
    view.paint(painter);
    painter.end();
    return bytes;
}

}  // namespace

void saveViewPicture(const ViewPicture& view, double factor, const QString& path,
                     const std::function<void(const QString& why)>& done) {
    std::function<bool(QIODevice&)> fill;
    if (path.endsWith(".svg", Qt::CaseInsensitive)) {
        fill = [bytes = svgOf(view)](QIODevice& file) { return file.write(bytes) == bytes.size(); };
    } else {
        const QSize size = (QSizeF(view.size) * factor).toSize();
        if (size.isEmpty() || size.width() > kMostPixels || size.height() > kMostPixels ||
            qint64{size.width()} * size.height() > kMostArea)
            return done(tooLarge(size));
        QImage image(size, QImage::Format_ARGB32_Premultiplied);
        if (image.isNull()) return done(tooLarge(size));
        image.setDevicePixelRatio(factor);
        image.fill(Qt::white);
        QPainter painter(&image);
        view.paint(painter);
        painter.end();
        fill = [image](QIODevice& file) { return image.save(&file, "PNG"); };
    }
    Task::start(
        [path, fill, done](Task& task) {
            const bool written = write(path, fill);
            task.post([written, path, done] { done(written ? QString() : notWritten(path)); });
        },
        done);
}

}  // namespace fugato
