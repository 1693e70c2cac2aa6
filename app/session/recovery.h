#pragma once

#include "shot/shot.h"

#include <QString>

#include <filesystem>
#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <vector>

class QLockFile;
class QThreadPool;

namespace pinion {

/// A shot that was not saved when the program ended.
struct LostShot {
    std::filesystem::path autosave;
    std::filesystem::path file;  ///< where it was saved; empty when never
    QString name;
};

/// The autosave of this window: a file of its own, held by a lock for as long as the process lives, so that what has no
/// lock was left by a crash. Everything is written in the writer's thread.
class Recovery {
public:
    /// `told` is called in the writer's thread after each writing: with why the shot could not be kept, or nothing.
    Recovery(QThreadPool& writer, std::function<void(const std::string& why)> told);
    ~Recovery();

    /// Writes the shot; `successorOf` is removed once it stands.
    void write(const Shot& shot, const std::filesystem::path& file, const std::optional<LostShot>& successorOf = {});
    void remove();
    std::vector<LostShot> lostShots() const;
    void discard(const LostShot& lost);

private:
    const std::filesystem::path& ownFile();

    QThreadPool& writer_;
    std::function<void(const std::string&)> told_;
    std::unique_ptr<QLockFile> lock_;
    std::filesystem::path file_;
    std::set<std::filesystem::path> discarded_;  ///< about to be removed by the writer
};

}  // namespace pinion
