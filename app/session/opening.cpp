// How plates and shots are opened: read in a job, checked, and put in the place of what was open.

#include "base/files.h"
#include "base/parallel.h"
#include "exchange/newshot.h"
#include "jobs/delivering.h"
#include "jobs/places.h"
#include "session/session.h"
#include "shot/edits/plateedits.h"
#include "shot/file/shotfile.h"

#include <QStringList>

namespace pinion {
namespace {

namespace fs = std::filesystem;
using PlatePtr = std::shared_ptr<const Plate>;

/// A shot as it was read, its plate when that could be opened, and what is to be said of it.
struct OpenedShot {
    Shot shot;
    PlatePtr plate;
    QString problem;
};

Expected<OpenedShot> readShot(const fs::path& path, const Progress& progress) {
    auto shot = loadShot(path);
    if (!shot) return tl::unexpected(shot.error());
    OpenedShot opened{std::move(*shot), nullptr, {}};
    const PlateRef& was = opened.shot.plate;
    if (!was.isOpen()) return opened;
    const auto plate = Plate::open(was.path, {.firstFrameOfVideo = was.frames.first}, progress);
    if (!plate) {
        opened.problem = text(plate.error().message) +
                         "\nThe shot is open without its plate; put the plate back, or open it from its new place: "
                         "the shot stays.";
        return opened;
    }
    const PlateFacts& facts = (*plate)->facts();
    if (facts.width != was.width || facts.height != was.height) {
        opened.problem =
            QString("The plate is now %1x%2, the shot was made on %3x%4. The shot is open without its plate.")
                .arg(facts.width)
                .arg(facts.height)
                .arg(was.width)
                .arg(was.height);
        return opened;
    }
    opened.plate = *plate;
    opened.shot.plate.pixelAspect = facts.pixelAspect;  // which older shots do not hold
    if (facts.firstFrame != was.frames.first || facts.lastFrame != was.frames.last)
        opened.problem = QString("The plate now holds frames %1-%2, the shot was made on %3-%4.")
                             .arg(facts.firstFrame)
                             .arg(facts.lastFrame)
                             .arg(was.frames.first)
                             .arg(was.frames.last);
    return opened;
}

QString remarksOf(const PlateFacts& facts) {
    QStringList lines;
    if (!facts.missing.empty())
        lines << QString("%1 frames of the plate are missing: %2")
                     .arg(facts.missing.size())
                     .arg(text(frameRanges(facts.missing)));
    for (const std::string& remark : facts.remarks) lines << text(remark);
    return lines.join("\n");
}

}  // namespace

Session::Session() {
    apply(readSettings());
    connect(&jobs, &JobRunner::liveMoved, &player, &Player::goTo);
}

void Session::apply(const Settings& settings) {
    player.setBudget(std::size_t(settings.cache_mib) << 20);
    limitThreads(settings.threads);
}

bool Session::refusesToOpen(const QString& what) {
    if (isBusy()) sayError(QString("A job is running. Stop it before %1.").arg(what));
    return isBusy();
}

void Session::begin(const Shot& shot, const PlatePtr& plate, const fs::path& file, bool saved) {
    player.take(nullptr);
    document.start(shot, file, saved);
    player.take(plate);
}

void Session::open(const fs::path& path) {
    std::error_code code;
    // Where the program was started does not matter later.
    const fs::path absolute = fs::absolute(path, code);
    if (loweredEnding(path) == ".pinion") openShot(absolute);
    else if (shot().plate.isOpen() && !hasPlate()) relinkPlate(absolute);
    else openPlate(absolute);
}

void Session::openPlate(const fs::path& path) {
    if (refusesToOpen("another plate is opened")) return;
    jobs.start(Job<PlatePtr>{.name = "Opening",
                             .run = [path](const JobLink& link) { return Plate::open(path, {}, link.progress); },
                             .merge =
                                 [this, path](PlatePtr& plate) {
                                     begin(shotOf(plate->facts()), plate, {}, true);
                                     document.remember(path);
                                     if (const QString remarks = remarksOf(plate->facts()); !remarks.isEmpty())
                                         say(remarks);
                                 }});
}

void Session::openShot(const fs::path& path) {
    if (refusesToOpen("another shot is opened")) return;
    jobs.start(Job<OpenedShot>{.name = "Opening",
                               .run = [path](const JobLink& link) { return readShot(path, link.progress); },
                               .merge =
                                   [this, path](OpenedShot& opened) {
                                       begin(opened.shot, opened.plate, path, true);
                                       document.remember(path);
                                       if (!opened.problem.isEmpty()) sayError(opened.problem);
                                   }});
}

void Session::relinkPlate(const fs::path& path) {
    if (refusesToOpen("the plate is put back")) return;
    const auto merge = [this, path](PlatePtr& plate) {
        const PlateFacts& facts = plate->facts();
        const PlateRef was = shot().plate;
        const QString name = text(path.filename().string());
        if (facts.width != was.width || facts.height != was.height) {
            sayError(QString("%1 is %2x%3, the shot was made on %4x%5: it is another plate. The shot is unchanged.")
                         .arg(name)
                         .arg(facts.width)
                         .arg(facts.height)
                         .arg(was.width)
                         .arg(was.height));
            return;
        }
        edit("Relink plate", withPlate(shot(), facts));
        player.take(plate);
        if (facts.firstFrame == was.frames.first && facts.lastFrame == was.frames.last)
            say(QString("The plate is %1 now; the shot is as it was.").arg(name));
        else
            say(QString("The plate is %1 now. It holds frames %2-%3, the shot was made on %4-%5.")
                    .arg(name)
                    .arg(facts.firstFrame)
                    .arg(facts.lastFrame)
                    .arg(was.frames.first)
                    .arg(was.frames.last));
    };
    jobs.start(Job<PlatePtr>{
        .name = "Opening",
        .run = [path, first = shot().plate.frames.first](
                   const JobLink& link) { return Plate::open(path, {.firstFrameOfVideo = first}, link.progress); },
        .merge = merge});
}

void Session::writeTo(const std::vector<fs::path>& places, const std::function<void()>& write) {
    QStringList outside;
    for (const fs::path& place : places)
        if (liesOutside(place, deliveryFolderOf(shot(), document.file()))) outside << text(place.string());
    if (outside.isEmpty()) write();
    else emit outsideAsked(outside, write);
}

void Session::recover(const LostShot& lost) {
    if (refusesToOpen("a shot is recovered")) return;
    jobs.start(Job<OpenedShot>{.name = "Recovering",
                               .run = [lost](const JobLink& link) { return readShot(lost.autosave, link.progress); },
                               .merge =
                                   [this, lost](OpenedShot& opened) {
                                       begin(opened.shot, opened.plate, lost.file, false);
                                       // The lost one goes when its successor stands.
                                       document.succeed(lost);
                                       say("Recovered. Save it to keep it.");
                                   }});
}

}  // namespace pinion
