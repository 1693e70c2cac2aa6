#pragma once

#include "session/notes.h"
#include "session/recovery.h"
#include "shot/history.h"

#include <QObject>
#include <QString>
#include <QStringList>
#include <QThreadPool>
#include <QTimer>

#include <filesystem>
#include <functional>

namespace pinion {

/// The shot that is open, with its history and its file. Edits are made here; what is not saved is autosaved.
class Document : public QObject {
    Q_OBJECT
public:
    explicit Document(Notes& notes);
    ~Document() override;

    const Shot& shot() const { return history_.current(); }
    const History& history() const { return history_; }
    void edit(const QString& name, Shot shot);
    /// An edit that continues the one before (a value still being dragged): no step of its own.
    void amend(Shot shot);
    void undo();
    void redo();
    bool isModified() const { return history_.stamp() != savedStamp_; }
    /// Where it was saved; empty when never.
    const std::filesystem::path& file() const { return file_; }

    /// Another shot takes the place of the present one.
    void start(Shot shot, const std::filesystem::path& file, bool saved);
    /// Writes beside and renames, in a thread of its own; `done` is called here with the outcome.
    void save(const std::filesystem::path& path, const std::function<void(bool)>& done = {});

    /// Writes the present version into the autosave, in the writer's thread.
    void autosaveNow();
    std::vector<LostShot> lostShots() const { return recovery_.lostShots(); }
    void discard(const LostShot& lost) { recovery_.discard(lost); }
    /// The autosave of `lost` goes once that of the present shot stands.
    void succeed(const LostShot& lost);

    /// What was opened and saved last, the latest first.
    QStringList recent() const;
    void remember(const std::filesystem::path& path);

signals:
    void replaced();  ///< another shot; before `changed`
    void changed();
    void wentBack();  ///< by undo; before `changed`
    void fileChanged();

private:
    void noteChange();
    void sayNotKept(const std::string& why);

    Notes& notes_;
    History history_;
    int run_ = 0;  ///< counts the shots that were open, so that a late save does not speak for the next
    std::uint64_t savedStamp_ = 0;  ///< of the version that stands in the file; 0: none does
    std::uint64_t autosavedStamp_ = 0;
    std::filesystem::path file_;
    QTimer autosaveTimer_;
    QThreadPool writer_;  ///< one thread: what is written later lands later
    bool saidNotKept_ = false;
    Recovery recovery_;
};

}  // namespace pinion
