// SPDX-License-Identifier: GPL-3.0-or-later
#include "view_picture.h"

#include <QBuffer>
#include <QCoreApplication>
#include <QImage>
#include <QPainter>
#include <QSaveFile>
#include <QSvgGenerator>
#include <QWidget>

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

QByteArray svgOf(const QSize& size, const QString& title, const std::function<void(QPainter&)>& paint) {
    QByteArray bytes;
    QBuffer buffer(&bytes);
    QSvgGenerator svg;
    svg.setOutputDevice(&buffer);
    svg.setSize(size);
    svg.setViewBox(QRect(QPoint(0, 0), size));
    svg.setTitle(title);
    QPainter painter(&svg);
    paint(painter);
    painter.end();
    return bytes;
}

/// Qt's writer of SVG knows no clipping: each widget is written by itself, and cut at its edges.
class SvgOfWidgets {
public:
    explicit SvgOfWidgets(const ViewPicture& view) : view_(view) {}
    QByteArray all() {
        add(*view_.widget, view_.widget->rect());
        return "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<svg version=\"1.1\" width=\"" +
               QByteArray::number(view_.size.width()) + "\" height=\"" + QByteArray::number(view_.size.height()) +
               "\" viewBox=\"0 0 " + QByteArray::number(view_.size.width()) + " " +
               QByteArray::number(view_.size.height()) +
               "\" xmlns=\"http://www.w3.org/2000/svg\" xmlns:xlink=\"http://www.w3.org/1999/xlink\">\n<title>" +
               view_.name.toHtmlEscaped().toUtf8() + "</title>\n<defs>\n" + definitions_ + "</defs>\n" + parts_ +
               "</svg>\n";
    }

private:
    void add(QWidget& part, const QRect& within) {
        const QPoint at = part.mapTo(view_.widget, QPoint(0, 0));
        const QRect box = QRect(at, part.size()) & within;
        if (box.isEmpty()) return;
        addPart(box, svgOf(view_.size, {}, [&](QPainter& painter) {
                    painter.translate(at);
                    if (view_.paintPart && view_.paintPart(part, painter)) return;
                    const bool ground = &part == view_.widget;
                    part.render(&painter, {}, {}, ground ? QWidget::DrawWindowBackground : QWidget::RenderFlags());
                }));
        for (QObject* child : part.children())
            if (auto* widget = qobject_cast<QWidget*>(child); widget && !widget->isWindow() && widget->isVisible())
                add(*widget, box);
    }
    /// Takes what an SVG of its own defines and holds; its names become the part's.
    void addPart(const QRect& box, QByteArray svg) {
        const QByteArray name = "part" + QByteArray::number(++count_);
        svg.replace("id=\"", "id=\"" + name).replace("url(#", "url(#" + name);
        const auto between = [&](const char* from, const char* to, bool last) {
            const qsizetype begin = svg.indexOf(from), end = last ? svg.lastIndexOf(to) : svg.indexOf(to);
            return begin < 0 || end < begin
                       ? QByteArray()
                       : svg.mid(begin + qsizetype(qstrlen(from)), end - begin - qsizetype(qstrlen(from)));
        };
        definitions_ += between("<defs>", "</defs>", false) + "<clipPath id=\"" + name + "\"><rect x=\"" +
                        QByteArray::number(box.x()) + "\" y=\"" + QByteArray::number(box.y()) + "\" width=\"" +
                        QByteArray::number(box.width()) + "\" height=\"" + QByteArray::number(box.height()) +
                        "\"/></clipPath>\n";
        parts_ += "<g clip-path=\"url(#" + name + ")\">" + between("</defs>", "</svg>", true) + "</g>\n";
    }

    const ViewPicture& view_;
    QByteArray definitions_, parts_;
    int count_ = 0;
};

QByteArray svgOf(const ViewPicture& view) {
    return view.widget ? SvgOfWidgets(view).all() : svgOf(view.size, view.name, view.paint);
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
