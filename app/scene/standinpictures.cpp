#include "scene/standinpictures.h"

#include "exchange/standins3d.h"
#include "render/meshfile.h"

namespace pinion {
namespace {

constexpr int kMost = 1024;  // pixels of a side

bool hasPicture(const StandIn& one) {
    return !one.hidden && (one.showsPictures() || one.kind == StandInKind::board || one.kind == StandInKind::text ||
                           one.kind == StandInKind::mesh);
}

/// What its picture is made of, and nothing of where it stands.
StandIn looksOf(StandIn one) {
    one.stance = {{0, 0, 0}, {0, 0, 0}, one.stance.size};
    one.keys = {};
    one.name.clear();
    return one;
}

}  // namespace

StandInPictures::StandInPictures(Session& session, std::function<void()> changed)
    : session_(session), pictures_(session.jobs, std::move(changed)) {}

QImage StandInPictures::of(StandInId standIn, int skin) const {
    if (!pictures_.value()) return {};
    const auto found = pictures_.value()->find({standIn, skin});
    return found == pictures_.value()->end() ? QImage() : found->second;
}

void StandInPictures::want() {
    std::vector<StandIn> shown;
    for (const StandIn& one : session_.shot().scene.standIns)
        if (hasPicture(one)) shown.push_back(looksOf(one));
    if (shown.empty()) return;
    pictures_.want(shown, [shown](const Progress& progress) {
        Pictures pictures;
        for (const StandIn& one : shown) {
            if (progress.stopped()) break;
            const auto keep = [&](int skin, const Expected<std::string>& png) {
                if (!png) return;
                const QImage image = QImage::fromData(reinterpret_cast<const uchar*>(png->data()), int(png->size()));
                pictures[{one.id, skin}] = image;
            };
            if (const auto art = handedOnPicture(one)) keep(0, pngOf(*art, kMost));
            int skin = 0;
            for (const auto& [picture, file] : skinsOf(one)) {
                ++skin;
                if (picture) keep(skin, pngOf(*picture, kMost));
            }
        }
        return Expected<Pictures>(std::move(pictures));
    });
}

}  // namespace pinion
