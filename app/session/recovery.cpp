#include "session/recovery.h"

#include "base/files.h"
#include "session/notes.h"
#include "shot/file/shotfile.h"

#include <QLockFile>
#include <QStandardPaths>
#include <QStringList>
#include <QThreadPool>

#include <unistd.h>

namespace pinion {
namespace {

namespace fs = std::filesystem;

constexpr int kMostWindows = 64;

fs::path autosaveFolder() {
    return fs::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) / "autosave";
}

fs::path beside(const fs::path& autosave, const char* ending) { return fs::path(autosave).replace_extension(ending); }

/// An autosave with what belongs to it; the lock goes with the process.
void removeShotFiles(const fs::path& autosave) {
    std::error_code code;
    fs::remove(autosave, code);
    fs::remove(beside(autosave, ".from"), code);
}

std::unique_ptr<QLockFile> lockOn(const fs::path& autosave) {
    auto lock = std::make_unique<QLockFile>(text(beside(autosave, ".lock").string()));
    lock->setStaleLockTime(0);
    return lock;
}

}  // namespace

Recovery::Recovery(QThreadPool& writer, std::function<void(const std::string&)> told)
    : writer_(writer), told_(std::move(told)) {}
Recovery::~Recovery() = default;

const fs::path& Recovery::ownFile() {
    for (int i = 0; !lock_; ++i) {
        (void)makeFolder(autosaveFolder());
        const fs::path file = autosaveFolder() / fmt::format("{}-{}.pinion", ::getpid(), i);
        auto lock = lockOn(file);
        std::error_code code;
        // Where no lock can be had (a folder that cannot be written) there is nothing to protect either.
        if ((lock->tryLock(0) && !fs::exists(file, code)) || i == kMostWindows) {
            lock_ = std::move(lock);
            file_ = file;
        }
    }
    return file_;
}

void Recovery::write(const Shot& shot, const fs::path& file, const std::optional<LostShot>& successorOf) {
    writer_.start([shot, to = ownFile(), from = file.string(), successorOf, told = told_] {
        auto written = saveShot(shot, to);
        if (written) written = writeFile(beside(to, ".from"), from + "\n" + shot.name + "\n");
        told(written ? std::string() : written.error().message);
        if (written && successorOf) removeShotFiles(successorOf->autosave);
    });
    if (successorOf) discarded_.insert(successorOf->autosave);
}

void Recovery::remove() {
    if (!lock_) return;
    writer_.start([file = ownFile()] { removeShotFiles(file); });
}

std::vector<LostShot> Recovery::lostShots() const {
    std::vector<LostShot> lost;
    std::error_code code;
    for (const auto& entry : fs::directory_iterator(autosaveFolder(), code)) {
        if (entry.path().extension() != ".pinion") continue;
        // What is locked belongs to a window that still runs, not to a crash.
        if ((lock_ && entry.path() == file_) || discarded_.contains(entry.path())) continue;
        const auto lock = lockOn(entry.path());
        if (!lock->tryLock(0)) continue;
        lock->unlock();
        LostShot one{entry.path(), {}, "a shot"};
        if (const auto from = readFile(beside(entry.path(), ".from"))) {
            const QStringList lines = text(*from).split('\n');
            one.file = lines.value(0).toStdString();
            one.name = lines.value(1);
        }
        lost.push_back(std::move(one));
    }
    return lost;
}

void Recovery::discard(const LostShot& lost) {
    writer_.start([file = lost.autosave] { removeShotFiles(file); });
    discarded_.insert(lost.autosave);
}

}  // namespace pinion
