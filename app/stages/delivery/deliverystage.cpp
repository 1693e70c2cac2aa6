#include "stages/delivery/deliverystage.h"

#include "exchange/deliverables.h"
#include "jobs/delivering.h"
#include "jobs/places.h"
#include "stages/delivery/deliverycard.h"
#include "stages/reasons.h"
#include "widgets/commands.h"

#include <algorithm>

namespace pinion {
namespace {

namespace fs = std::filesystem;

struct Delivered {
    std::vector<std::string> done;
    QStringList problems;
    std::size_t files = 0;
};

/// What can be written is written, whatever is wrong with the rest.
Delivered deliverAll(const Shot& shot, const std::vector<std::string>& names, const fs::path& folder,
                     const Progress& progress) {
    Delivered delivered;
    for (std::size_t i = 0; i < shot.deliverables.size() && !progress.stopped(); ++i) {
        const Deliverable& deliverable = shot.deliverables[i];
        progress.report(double(i) / double(shot.deliverables.size()), deliverable.name);
        if (!names.empty() && std::find(names.begin(), names.end(), deliverable.name) == names.end()) continue;
        if (const auto report = deliver(shot, deliverable, folder)) {
            delivered.done.push_back(deliverable.name);
            delivered.files += report->files.size();
        } else {
            delivered.problems << text(report.error().message);
        }
    }
    if (!delivered.done.empty())
        if (const auto note = writeDeliveryNote(shot, folder); !note) delivered.problems << text(note.error().message);
    return delivered;
}

}  // namespace

StageReport DeliveryStage::report() const { return deliveryReport(session_.shot()); }

QWidget* DeliveryStage::makeCard() { return makeDeliveryCard(session_, *this); }

bool DeliveryStage::take(Errand errand) {
    if (errand != Errand::handOn) return false;
    openOwnCard();
    return true;
}

void DeliveryStage::furnish(const Desk& desk) {
    desk.commands.add(
        "Shot", "Deliver all", {QKeySequence("Ctrl+D")},
        [this, desk] {
            desk.openCard(id());
            startDelivery({});
        },
        [this] {
            const QString busy = whyBusy(session_);
            return !busy.isEmpty()                    ? busy
                   : session_.shot().tracks.isEmpty() ? QString("there is nothing to deliver yet")
                                                      : QString();
        });
}

void DeliveryStage::startDelivery(const std::vector<std::string>& names) {
    if (session_.isBusy()) return;
    const Shot shot = session_.shot();
    const fs::path file = session_.document.file();
    const fs::path folder = deliveryFolderOf(shot, file);
    if (const auto free = checkPlaces(shot, folder, file, true, names); !free) {
        session_.sayError(text(free.error().message));
        return;
    }
    const auto run = [shot, names, folder](const JobLink& link) -> Expected<Delivered> {
        return deliverAll(shot, names, folder, link.progress);
    };
    const auto merge = [this, folder, shot](Delivered& delivered) {
        if (!delivered.done.empty()) {
            Shot after = session_.shot();
            for (const std::string& name : delivered.done) after = withDelivered(after, name, shot);
            session_.edit("Deliver", after);
            session_.say(
                QString("%1 files written and read back, in %2").arg(delivered.files).arg(text(folder.string())));
        }
        if (!delivered.problems.isEmpty()) session_.sayError(delivered.problems.join("\n"));
    };
    std::vector<fs::path> places;
    for (const OutsidePlace& place : placesOutside(shot, folder, names)) places.push_back(place.path);
    session_.writeTo(places, [this, run, merge] {
        session_.jobs.start(Job<Delivered>{.name = "Delivering", .run = run, .merge = merge});
    });
}

}  // namespace pinion
