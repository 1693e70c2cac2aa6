#include "session/document.h"

#include "shot/file/shotfile.h"

#include <QSettings>

#include <utility>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr int kAutosaveAfter = 2500;  // milliseconds; with the writing at most five seconds of work can be lost
constexpr int kMostRecent = 10;

}  // namespace

Document::Document(Notes& notes)
    : notes_(notes), savedStamp_(history_.stamp()), recovery_(writer_, [this](const std::string& why) {
          QMetaObject::invokeMethod(this, [this, why] { sayNotKept(why); });
      }) {
    writer_.setMaxThreadCount(1);
    autosaveTimer_.setSingleShot(true);
    autosaveTimer_.setInterval(kAutosaveAfter);
    connect(&autosaveTimer_, &QTimer::timeout, this, [this] {
        if (isModified() && history_.stamp() != autosavedStamp_) autosaveNow();
    });
}

Document::~Document() {
    recovery_.remove();
    writer_.waitForDone();
}

void Document::noteChange() {
    // It is not started anew by the next edit: somebody who edits without a pause is saved as well.
    if (!autosaveTimer_.isActive()) autosaveTimer_.start();
    emit changed();
}

void Document::edit(const QString& name, Shot shot) {
    history_.record(name.toStdString(), std::move(shot));
    noteChange();
}

void Document::amend(Shot shot) {
    history_.amend(std::move(shot));
    noteChange();
}

void Document::undo() {
    if (!history_.canUndo()) return;
    history_.undo();
    emit wentBack();
    noteChange();
}

void Document::redo() {
    if (!history_.canRedo()) return;
    history_.redo();
    noteChange();
}

void Document::start(Shot shot, const fs::path& file, bool saved) {
    ++run_;
    history_ = History(std::move(shot));
    savedStamp_ = saved ? history_.stamp() : 0;
    autosavedStamp_ = 0;
    autosaveTimer_.stop();
    file_ = file;
    recovery_.remove();
    emit replaced();
    emit fileChanged();
    emit changed();
}

void Document::save(const fs::path& to, const std::function<void(bool)>& done) {
    std::error_code code;
    const fs::path path = fs::absolute(to, code);
    writer_.start([this, shot = this->shot(), stamp = history_.stamp(), run = run_, path, done] {
        const auto saved = saveShot(shot, path);
        QMetaObject::invokeMethod(this, [this, saved, path, done, stamp, run] {
            if (!saved) {
                notes_.sayError(text(saved.error().message));
            } else if (run == run_) {
                file_ = path;
                // What was changed while it was being written is still to be saved.
                savedStamp_ = stamp;
                if (!isModified()) {
                    autosavedStamp_ = 0;
                    recovery_.remove();
                }
                remember(path);
                emit fileChanged();
                emit changed();
                notes_.say(QString("Saved %1").arg(text(path.filename().string())));
            }
            if (done) done(saved.has_value());
        });
    });
}

void Document::sayNotKept(const std::string& why) {
    // Once, and again when it went well between: it is tried every few seconds.
    const bool fails = !why.empty();
    if (std::exchange(saidNotKept_, fails) || !fails) return;
    notes_.sayError(
        QString("Your work is not kept for a crash: %1\nSave the shot (Ctrl+S) now and then.").arg(text(why)));
}

void Document::autosaveNow() {
    autosavedStamp_ = history_.stamp();
    recovery_.write(shot(), file_);
}

void Document::succeed(const LostShot& lost) {
    autosavedStamp_ = history_.stamp();
    recovery_.write(shot(), file_, lost);
}

void Document::remember(const fs::path& path) {
    QSettings settings;
    QStringList list = recent();
    std::error_code code;
    const QString entry = text(fs::absolute(path, code).string());
    list.removeAll(entry);
    list.prepend(entry);
    while (list.size() > kMostRecent) list.removeLast();
    settings.setValue("recent", list);
}

QStringList Document::recent() const { return QSettings().value("recent").toStringList(); }

}  // namespace pinion
