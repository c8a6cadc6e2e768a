// SPDX-License-Identifier: GPL-3.0-or-later
#include "start_form.h"

#include <QFileDialog>
#include <QFormLayout>
#include <QHBoxLayout>
#include <QJsonArray>
#include <QJsonDocument>
#include <QJsonObject>
#include <QProcess>
#include <QVBoxLayout>

#include "app/settings/settings.h"
#include "app/theme/theme.h"
#include "app/theme/words.h"
#include "presets_dialog.h"

namespace fugato {

namespace {

constexpr int kMostKept = 20, kLookAfterMs = 250;

/// Of an amount of frames or seconds, as it is typed.
QString textOf(const RecordedAmount& amount) {
    if (amount.frames) return QString::number(*amount.frames) + "f";
    if (amount.seconds) return QString::number(*amount.seconds) + "s";
    return {};
}

/// As a shell would be given them.
QString joined(const QStringList& words) {
    QStringList out;
    for (QString word : words) {
        if (word.isEmpty() || word.contains(' ') || word.contains('"')) word = '"' + word.replace("\"", "\"\"\"") + '"';
        out << word;
    }
    return out.join(' ');
}

QString keptText(const Launch& launch) {
    QJsonObject one{{"program", toQString(launch.program)},
                    {"folder", toQString(launch.folder)},
                    {"collect", toQString(launch.collect)},
                    {"leave out", textOf(launch.leaveOut)},
                    {"for", textOf(launch.length)},
                    {"moments", launch.moments ? toQString(textOf(*launch.moments)) : QString()}};
    QJsonArray arguments, environment;
    for (const std::string& argument : launch.arguments) arguments << toQString(argument);
    for (const auto& [key, value] : launch.environment) environment << toQString(key + "=" + value);
    one["arguments"] = arguments;
    one["environment"] = environment;
    return QJsonDocument(one).toJson(QJsonDocument::Compact);
}

void addVariable(Launch& launch, const QString& text) {
    const qsizetype equals = text.indexOf('=');
    launch.environment.emplace_back(text.left(equals).toStdString(), text.mid(equals + 1).toStdString());
}

Launch launchIn(const QString& kept) {
    const QJsonObject one = QJsonDocument::fromJson(kept.toUtf8()).object();
    const auto text = [&](const char* key) { return one[QLatin1String(key)].toString().toStdString(); };
    Launch launch;
    launch.program = text("program");
    launch.folder = text("folder");
    launch.collect = text("collect");
    launch.leaveOut = amountIn(text("leave out")).value_or(RecordedAmount{});
    launch.length = amountIn(text("for")).value_or(RecordedAmount{});
    if (const std::string moments = text("moments"); !moments.empty()) launch.moments = momentPlanIn(moments);
    for (const QJsonValue& argument : one["arguments"].toArray())
        launch.arguments.push_back(argument.toString().toStdString());
    for (const QJsonValue& variable : one["environment"].toArray()) addVariable(launch, variable.toString());
    return launch;
}

void remember(const Launch& launch) {
    QStringList all{keptText(launch)};
    for (const QString& other : settings::startedPrograms().get())
        if (launchIn(other).program != launch.program && all.size() < kMostKept) all << other;
    settings::startedPrograms().set(all);
}

}  // namespace

StartForm::StartForm(QWidget* parent)
    : QWidget(parent),
      program_(new QComboBox),
      collect_(new QComboBox),
      arguments_(new QLineEdit),
      folder_(new QLineEdit),
      environment_(new QLineEdit),
      leaveOut_(new QLineEdit),
      length_(new QLineEdit),
      about_(plainLabel()),
      cost_(plainLabel()),
      keep_(new KeepFields),
      go_(new QPushButton(tr("&Start and record"))) {
    program_->setEditable(true);
    program_->setInsertPolicy(QComboBox::NoInsert);
    program_->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
    program_->setMinimumContentsLength(16);
    program_->lineEdit()->setPlaceholderText(tr("path, or name of a program"));
    auto* browse = new QPushButton(tr("&Browse…"));
    auto* line = new QHBoxLayout;
    line->addWidget(program_, 1);
    line->addWidget(browse);
    about_->setWordWrap(true);
    about_->setObjectName("lesser");
    cost_->setWordWrap(true);
    cost_->setObjectName("lesser");
    arguments_->setPlaceholderText(tr("as in a terminal; \"with spaces\""));
    folder_->setPlaceholderText(tr("the current one"));
    environment_->setPlaceholderText(tr("NAME=VALUE, more behind spaces"));
    leaveOut_->setPlaceholderText(tr("nothing; 300f frames, or 5s seconds"));
    length_->setPlaceholderText(tr("until it ends; 600f frames, or 10s seconds"));
    fillPresets(*collect_);
    auto* presets = new QPushButton(tr("Pre&sets…"));
    auto* collecting = new QHBoxLayout;
    collecting->addWidget(collect_, 1);
    collecting->addWidget(presets);
    go_->setObjectName("primary");

    auto* form = new QFormLayout(this);
    form->setContentsMargins(0, 0, 0, 0);
    form->setFieldGrowthPolicy(QFormLayout::AllNonFixedFieldsGrow);
    const auto add = [&](const QString& name, QWidget* field, auto* row) {
        auto* label = plainLabel(name);
        label->setBuddy(field);
        field->setAccessibleName(QString(name).remove('&'));
        form->addRow(label, row);
    };
    add(tr("&Program"), program_, line);
    form->addRow(QString(), about_);
    add(tr("&Arguments"), arguments_, arguments_);
    add(tr("I&n folder"), folder_, folder_);
    add(tr("Environ&ment"), environment_, environment_);
    add(tr("Co&llect"), collect_, collecting);
    form->addRow(QString(), cost_);
    add(tr("&Keep"), keep_, keep_);
    add(tr("Leave o&ut"), leaveOut_, leaveOut_);
    add(tr("Re&cord for"), length_, length_);
    form->addRow(QString(), go_);
    setFocusProxy(program_);

    soon_.setSingleShot(true);
    soon_.setInterval(kLookAfterMs);
    connect(&soon_, &QTimer::timeout, this, &StartForm::tellAboutProgram);
    connect(program_, &QComboBox::editTextChanged, &soon_, qOverload<>(&QTimer::start));
    connect(folder_, &QLineEdit::textChanged, &soon_, qOverload<>(&QTimer::start));
    connect(program_, &QComboBox::activated, this,
            [this](int at) { take(launchIn(program_->itemData(at).toString())); });
    connect(presets, &QPushButton::clicked, this, [this] {
        PresetsDialog(this).exec();
        takePresets();
    });
    connect(collect_, &QComboBox::currentIndexChanged, this, &StartForm::tellCost);
    tellCost();
    connect(browse, &QPushButton::clicked, this, &StartForm::browse);
    connect(go_, &QPushButton::clicked, this, &StartForm::start);
    for (QLineEdit* field : {program_->lineEdit(), arguments_, folder_, environment_, leaveOut_, length_})
        connect(field, &QLineEdit::returnPressed, this, &StartForm::start);
}

void StartForm::showEvent(QShowEvent*) { fill(); }

std::optional<Launch> StartForm::before() {
    const QStringList all = settings::startedPrograms().get();
    return all.isEmpty() ? std::nullopt : std::optional(launchIn(all.front()));
}

/// The programs that were started before; what was typed stays.
void StartForm::fill() {
    const QString typed = program_->currentText();
    const QSignalBlocker quiet(program_);
    program_->clear();
    for (const QString& kept : settings::startedPrograms().get())
        program_->addItem(toQString(launchIn(kept).program), kept);
    if (const auto last = before(); typed.isEmpty() && last)
        take(*last);
    else
        program_->setEditText(typed);
    tellAboutProgram();
}

void StartForm::take(const Launch& launch) {
    program_->setEditText(toQString(launch.program));
    QStringList arguments, environment;
    for (const std::string& argument : launch.arguments) arguments << toQString(argument);
    for (const auto& [key, value] : launch.environment) environment << toQString(key + "=" + value);
    arguments_->setText(joined(arguments));
    environment_->setText(joined(environment));
    folder_->setText(toQString(launch.folder));
    choosePreset(*collect_, toQString(launch.collect));
    keep_->take(launch.moments);
    leaveOut_->setText(textOf(launch.leaveOut));
    length_->setText(textOf(launch.length));
}

void StartForm::tellAboutProgram() {
    const std::string name = program_->currentText().trimmed().toStdString();
    if (name.empty()) {
        looking_.silence();
        return about_->setText(
            tr("Any program that shows pictures (OpenGL, EGL, Vulkan, SDL 2) can be recorded as it is; "
               "one that is built with the recorder tells more."));
    }
    looking_.ask(
        [name, folder = folder_->text().toStdString()](const Progress&) {
            return std::make_shared<const Result<ProgramFile>>(lookAtProgram(name, folder));
        },
        [this](const std::shared_ptr<const Result<ProgramFile>>& file) {
            if (!*file) return about_->setText(shown(toQString(file->failure().sentence)));
            about_->setText((*file)->how == ProgramFile::How::Itself
                                ? tr("It carries the recorder: its own markers are recorded.")
                                : tr("It carries no recorder: frames, waits, files and threads are recorded from "
                                     "outside."));
        });
}

void StartForm::takePresets() {
    fillPresets(*collect_);
    tellCost();
}

void StartForm::tellCost() {
    const QString cost = costOf(collect_->currentData().toString());
    cost_->setText(cost.isEmpty() ? tr("What this costs here can be measured under Presets.") : cost);
}

void StartForm::browse() {
    const QString path = QFileDialog::getOpenFileName(this, tr("Program to record"), folder_->text());
    if (!path.isEmpty()) program_->setEditText(path);
}

std::optional<Launch> StartForm::launch() {
    Launch launch;
    launch.program = program_->currentText().trimmed().toStdString();
    QWidget* wrong = launch.program.empty() ? program_ : nullptr;
    const auto amount = [&](QLineEdit* field, RecordedAmount& to) {
        const QString text = field->text().trimmed();
        const auto read = amountIn(text.toStdString());
        if (!text.isEmpty() && !read && !wrong) {
            about_->setText(tr("“%1” is neither frames (300f) nor seconds (5s).").arg(text));
            wrong = field;
        }
        to = read.value_or(RecordedAmount{});
    };
    amount(leaveOut_, launch.leaveOut);
    amount(length_, launch.length);
    for (const QString& variable : QProcess::splitCommand(environment_->text())) {
        if (variable.indexOf('=') > 0) {
            addVariable(launch, variable);
        } else if (!wrong) {
            about_->setText(tr("“%1” is not NAME=VALUE.").arg(variable));
            wrong = environment_;
        }
    }
    for (const QString& argument : QProcess::splitCommand(arguments_->text()))
        launch.arguments.push_back(argument.toStdString());
    launch.folder = folder_->text().trimmed().toStdString();
    launch.collect = collect_->currentData().toString().toStdString();
    launch.moments = keep_->moments();
    if (wrong) {
        wrong->setFocus();
        return std::nullopt;
    }
    return launch;
}

void StartForm::start() {
    const auto wanted = launch();
    if (!wanted) return;
    remember(*wanted);
    emit started(*wanted);
}

}  // namespace fugato
