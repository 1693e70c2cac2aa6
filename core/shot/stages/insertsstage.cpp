#include "shot/stages/insertsstage.h"

#include "comp/artshelf.h"
#include "comp/insertion.h"
#include "shot/carriers/carriers.h"
#include "shot/layers/layers.h"

#include <algorithm>
#include <fmt/format.h>

namespace pinion {
namespace {

/// What of a missing carrier there is to say. Asked at every edit: what takes time to work out is left to the picture.
std::string lostWords(const Shot& shot, const Insert& insert) {
    const FrameRange used = insert.frames.value_or(shot.plate.range);
    const auto carrier = insert.ride ? quickCarrierOf(shot, *insert.ride) : nullptr;
    if (!carrier) return {};
    std::vector<int> missing;
    const auto take = [&](int frame) {
        if (used.holds(frame) && opacityAt(insert, frame) > 0) missing.push_back(frame);
    };
    if (!carrier->hasSurface() && !carrier->problem().empty()) return carrier->problem();
    for (const int frame : carrier->hasSurface() ? carrier->surfaceMissing() : carrier->missing()) take(frame);
    if (missing.empty()) return {};
    const char* does = insert.lost == Insert::Lost::ends    ? "it is not shown there"
                       : insert.lost == Insert::Lost::holds ? "it stays where it was"
                                                            : "it fades there";
    return fmt::format("{} is not there on {}: {}", wordsOf(shot, insert.ride), frameRanges(missing), does);
}

void clipWords(const Shot& shot, const Insert& insert, std::vector<std::string>& notes) {
    if (insert.kind != "art" || insert.shows != Insert::Shows::clip) return;
    const Clip* clip = findClip(shot, insert.clip);
    if (!clip) {
        notes.emplace_back("its clip is not in the list");
        return;
    }
    if (clip->hasAlpha)
        if (const auto kind = alphaKindOf(*clip); !kind)
            notes.emplace_back("say whether its colours are multiplied by their alpha");
    if (clip->still) return;
    const FrameRange used = insert.frames.value_or(shot.plate.range);
    const int ends = insert.time.start + shownFrames(insert.time, *clip, shot.plate.fps) - 1;
    if (ends < used.last && insert.time.after != ClipTime::After::loop)
        notes.push_back(fmt::format(
            "its clip ends on {}: {}", ends,
            insert.time.after == ClipTime::After::hold ? "its last frame stays" : "it is not shown beyond"));
    if (!(clip->fps == shot.plate.fps) && !insert.time.ownRate)
        notes.push_back(fmt::format("its clip has {} frames a second, the plate {}: they go frame by frame",
                                    toString(clip->fps), toString(shot.plate.fps)));
}

}  // namespace

std::string wordsOf(const Shot& shot, const std::optional<Ride>& ride) {
    return ride ? wordsOf(shot, *ride) : "the frame";
}

std::vector<std::string> notesOf(const Shot& shot, const Insert& insert) {
    std::vector<std::string> notes;
    if (const std::string lost = lostWords(shot, insert); !lost.empty()) notes.push_back(lost);
    clipWords(shot, insert, notes);
    for (const List<MatteId>* list : {&insert.heldOut, &insert.within})
        for (const MatteId id : *list)
            if (!findMatte(shot, id)) noteOnce(&notes, "a matte that it names is gone");
    if (const LayerKind* kind = layerKind(insert.kind); kind && kind->notesOf)
        for (std::string& note : kind->notesOf(shot, insert)) notes.push_back(std::move(note));
    return notes;
}

StageReport insertsReport(const Shot& shot) {
    StageReport report{StageState::empty, "none", ""};
    if (shot.inserts.isEmpty()) return report;
    report.state = StageState::done;
    report.number = fmt::format("{} insert{}", shot.inserts.size(), shot.inserts.size() == 1 ? "" : "s");
    for (const Insert& insert : shot.inserts) {
        if (insert.hidden || report.state == StageState::attention) continue;
        const auto notes = notesOf(shot, insert);
        if (notes.empty()) continue;
        report.state = StageState::attention;
        report.message = fmt::format("{}: {}.", insert.name, notes.front());
    }
    return report;
}

}  // namespace pinion
