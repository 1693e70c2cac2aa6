#include "stages/camera/solvelooker.h"

namespace pinion {

SolveLooker::SolveLooker(Session& session)
    : session_(session),
      look_(session.jobs,
            [this] {
                want();
                emit changed();
            }),
      without_(session.jobs, [this] { emit changed(); }) {
    connect(&session.document, &Document::replaced, this, [this] {
        look_.clear();
        held_.reset();
    });
    connect(&session.document, &Document::changed, this, [this] { want(); });
}

void SolveLooker::showArrows(Arrows arrows) {
    arrows_ = arrows;
    want();
    emit changed();
}

void SolveLooker::setOpen(bool open) {
    if (open == open_) return;
    open_ = open;
    if (!open) held_.reset();
    want();
    emit changed();
}

const SolveLook* SolveLooker::look() const {
    return look_.value() && look_.key() && !look_.isPending() ? look_.value().get() : nullptr;
}

std::vector<TrackId> SolveLooker::suspects(SuspectReason reason) const {
    std::vector<TrackId> tracks;
    if (const SolveLook* seen = look())
        for (const Suspect& one : seen->suspects)
            if (one.reason == reason) tracks.push_back(one.track);
    return tracks;
}

void SolveLooker::hold(std::optional<SuspectReason> reason) {
    held_ = reason;
    if (reason) {
        const auto tracks = suspects(*reason);
        session_.selection.set({tracks.begin(), tracks.end()});
    }
    want();
    emit changed();
}

const Without* SolveLooker::without() const {
    return held_ && without_.value() && !without_.isPending() ? without_.value().get() : nullptr;
}

void SolveLooker::want() {
    const Shot& shot = session_.shot();
    if (!shot.solve || (!open_ && arrows_ == Arrows::none)) {
        look_.clear();
        without_.clear();
        return;
    }
    const std::uint64_t key = lookKey(shot);
    if (look_.key() != key) {
        look_.want(key, [shot](const Progress& progress) { return lookAtSolve(shot, progress); });
        return;  // it comes back here
    }
    const auto tracks = held_ ? suspects(*held_) : std::vector<TrackId>{};
    if (tracks.empty()) {
        if (!look_.isPending()) without_.clear();
        return;
    }
    const WithoutKey tried{key, int(*held_)};
    if (without_.key() != tried)
        without_.want(tried, [shot, tracks](const Progress& progress) { return solveWithout(shot, tracks, progress); });
}

}  // namespace pinion
