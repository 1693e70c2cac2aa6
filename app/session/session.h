#pragma once

#include "session/document.h"
#include "session/jobrunner.h"
#include "session/liveplanes.h"
#include "session/notes.h"
#include "session/player.h"
#include "session/selection.h"
#include "session/settings.h"
#include "session/ties.h"

#include <QObject>
#include <QStringList>

#include <filesystem>
#include <functional>
#include <vector>

namespace pinion {

/// What the window works on. Views get the current shot and show it; tools turn mouse and keys into edits. What a stage
/// works out for itself (the plate check, candidates, the steadied picture) is kept by the stage.
class Session : public QObject {
    Q_OBJECT
public:
    Session();

    Notes notes;
    Document document{notes};
    Selection selection{document};
    Player player{document};
    JobRunner jobs{notes};
    Ties ties{document, player, jobs, notes};
    LivePlanes livePlanes;

    const Shot& shot() const { return document.shot(); }
    void edit(const QString& name, Shot shot) { document.edit(name, std::move(shot)); }
    void say(const QString& words) { notes.say(words); }
    void sayError(const QString& words) { notes.sayError(words); }
    bool isBusy() const { return jobs.isBusy(); }
    bool hasPlate() const { return player.hasPlate(); }
    /// A plate is open and no job runs.
    bool isReady() const { return hasPlate() && !isBusy(); }

    void apply(const Settings& settings);

    /// A plate or a shot, by what it is. A plate is the shot's own, found again, when the shot has lost its plate.
    void open(const std::filesystem::path& path);
    void openPlate(const std::filesystem::path& path);
    void openShot(const std::filesystem::path& path);
    /// The shot's plate at another place; the shot stays. A plate of another size is refused.
    void relinkPlate(const std::filesystem::path& path);
    /// What an earlier run lost.
    void recover(const LostShot& lost);

    /// Does what writes to `places`; asks by `outsideAsked` first where one lies outside the delivery folder: a shot
    /// from somebody else may name any file of this machine.
    void writeTo(const std::vector<std::filesystem::path>& places, const std::function<void()>& write);

signals:
    void outsideAsked(const QStringList& places, const std::function<void()>& write);

private:
    bool refusesToOpen(const QString& what);
    void begin(const Shot& shot, const std::shared_ptr<const Plate>& plate, const std::filesystem::path& file,
               bool saved);
};

}  // namespace pinion
