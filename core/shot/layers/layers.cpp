#include "shot/layers/layers.h"

#include "matte/riding.h"
#include "matte/sequence.h"
#include "shot/carriers/carriers.h"
#include "shot/file/parts.h"

#include <algorithm>
#include <map>

namespace pinion {
namespace {

/// In place of a layer that cannot be made.
class NoSource : public LayerSource {
public:
    Layer laid(const LayerWish&, ArtShelf&, std::vector<std::string>*) const override { return {}; }
    PixelBox boxOn(int, int, int) const override { return {}; }
};

/// The mattes that inserts are seen behind and within, each carried once.
class CarriedMattes {
public:
    CarriedMattes(const Shot& shot, std::vector<std::string>& notes) : shot_(shot), notes_(notes) {}
    std::vector<Matte> of(const Insert& insert, const List<MatteId>& ids) {
        std::vector<Matte> found;
        for (const MatteId id : ids) {
            const Matte* matte = findMatte(shot_, id);
            if (!matte) {
                notes_.push_back(fmt::format("{}: a matte that it names is gone", insert.name));
                continue;
            }
            const PlateRef& plate = shot_.plate;
            for (const std::string& trouble : pictureTroubles({matte, 1}, plate.range, plate.width, plate.height))
                noteOnce(&notes_, trouble);
            if (!carried_.contains(id))
                if (auto ridden = pinion::ridden({*matte}, carriersOf(shot_), plate.range, &notes_))
                    carried_.emplace(id, ridden->front());
            if (carried_.contains(id)) found.push_back(carried_.at(id));
        }
        return found;
    }

private:
    const Shot& shot_;
    std::vector<std::string>& notes_;
    std::map<MatteId, Matte> carried_;
};

}  // namespace

const LayerKind* layerKind(std::string_view word) {
    for (const LayerKind& kind : layerKinds())
        if (word == kind.word) return &kind;
    return nullptr;
}

InsertScene insertSceneOf(const Shot& shot) {
    InsertScene scene{{}, shot.plate.width, shot.plate.height, shot.plate.fps, {}};
    CarriedMattes mattes(shot, scene.notes);
    for (const Insert& insert : shot.inserts) {
        if (insert.hidden) continue;
        InsertScene::One one{.insert = insert,
                             .source = std::make_shared<const NoSource>(),
                             .clip = {},
                             .surface = nullptr,
                             .heldOut = mattes.of(insert, insert.heldOut),
                             .within = mattes.of(insert, insert.within)};
        if (const LayerKind* kind = layerKind(insert.kind)) kind->make(shot, one, scene.notes);
        else
            scene.notes.push_back(
                fmt::format("{}: is a layer of {}, which this version does not know", insert.name, insert.kind));
        scene.inserts.push_back(std::move(one));
    }
    return scene;
}

void addInserts(Fingerprint& print, const Shot& shot) {
    addPlate(print, shot.plate);
    addPart(print, shot.inserts, [](const List<Insert>& inserts) {
        Shot alone;
        alone.inserts = inserts;
        return partText(insertsPart(), alone);
    });
    addPart(print, shot.clips, [](const List<Clip>& clips) {
        Shot alone;
        alone.clips = clips;
        return partText(insertsPart(), alone);
    });
    for (const Insert& insert : shot.inserts)
        if (const LayerKind* kind = layerKind(insert.kind); kind && kind->addKey) kind->addKey(print, shot, insert);
    addMattes(print, shot);
}

}  // namespace pinion
