// SPDX-License-Identifier: GPL-3.0-or-later
#include "stored_values.h"

#include <QCoreApplication>
#include <QHash>
#include <QSemaphore>
#include <QSettings>
#include <QTimer>
#include <memory>
#include <optional>

#include "app/work/workers.h"

namespace fugato::settings {

namespace {

constexpr int kSoonMs = 300;

using Values = QHash<QString, QVariant>;
using Changes = QHash<QString, std::optional<QVariant>>;  // none: removed

void write(const Changes& changes) {
    QSettings file;
    for (auto it = changes.begin(); it != changes.end(); ++it)
        if (it.value())
            file.setValue(it.key(), *it.value());
        else
            file.remove(it.key());
    file.sync();
}

Values readAll() {
    QSettings file;
    Values values;
    for (const QString& key : file.allKeys()) values.insert(key, file.value(key));
    return values;
}

class Stored {
public:
    QVariant value(const QString& key, const QVariant& usual) {
        if (!values_) values_ = readAll();
        return values_->value(key, usual);
    }
    void change(const QString& key, const std::optional<QVariant>& value) {
        if (!values_) values_ = readAll();
        if (value ? values_->value(key) == *value && values_->contains(key) : !values_->contains(key)) return;
        apply(*values_, key, value);
        changes_.insert(key, value);
        if (soon_ || writing_) return;
        soon_ = true;
        QTimer::singleShot(kSoonMs, QCoreApplication::instance(), [this] {
            soon_ = false;
            exchange();
        });
    }
    /// Writes what changed and takes over what the file holds, elsewhere.
    void exchange() {
        if (writing_) return;
        writing_ = std::make_shared<Writing>();
        writing_->changes = std::exchange(changes_, {});
        const bool started = startWork(
            [this, writing = writing_] {
                write(writing->changes);
                writing->found = readAll();
                writing->done.release();
                if (QCoreApplication* const app = QCoreApplication::instance())  // else it is the end
                    QMetaObject::invokeMethod(
                        app, [this, writing] { take(writing); }, Qt::QueuedConnection);
            },
            Urgency::Ahead);
        if (started) return;
        write(writing_->changes);
        writing_.reset();
    }
    void writeNow() {
        if (const auto writing = std::exchange(writing_, nullptr)) writing->done.acquire();
        write(std::exchange(changes_, {}));
    }
    void clear() {
        writeNow();
        QSettings().clear();
        values_ = Values();
    }

private:
    struct Writing {
        Changes changes;
        Values found;
        QSemaphore done;
    };
    static void apply(Values& values, const QString& key, const std::optional<QVariant>& value) {
        if (value)
            values.insert(key, *value);
        else
            values.remove(key);
    }
    void take(const std::shared_ptr<Writing>& writing) {
        if (writing_ != writing) return;  // all was written meanwhile, or forgotten
        writing_.reset();
        values_ = std::move(writing->found);
        for (auto it = changes_.begin(); it != changes_.end(); ++it) apply(*values_, it.key(), it.value());
        if (!changes_.isEmpty()) exchange();
    }

    std::optional<Values> values_;      // none: not read yet
    Changes changes_;                   // that are not in the file
    std::shared_ptr<Writing> writing_;  // what is being written; null: nothing
    bool soon_ = false;
};

Stored& stored() {
    static Stored all;
    return all;
}

}  // namespace

QVariant storedValue(const QString& key, const QVariant& usual) { return stored().value(key, usual); }
void storeValue(const QString& key, const QVariant& value) { stored().change(key, value); }
void removeValue(const QString& key) { stored().change(key, std::nullopt); }
void refresh() { stored().exchange(); }
void writeNow() { stored().writeNow(); }
void clearAll() { stored().clear(); }

}  // namespace fugato::settings
