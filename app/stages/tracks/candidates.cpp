#include "stages/tracks/candidates.h"

#include "picture/pyramid.h"
#include "shot/stages/tracksstage.h"

#include <algorithm>

namespace pinion {

bool Candidates::Key::operator==(const Key& other) const {
    return frame == other.frame && settings == other.settings && mattes.sharedWith(other.mattes);
}

Candidates::Candidates(Session& session) : session_(session), found_(session.jobs, [this] { emit changed(); }) {
    connect(&session.document, &Document::changed, this, &Candidates::refresh);
    connect(&session.player, &Player::frameChanged, this, &Candidates::refresh);
    connect(&session.player, &Player::plateChanged, this, [this] { show(false); });
}

const std::vector<Candidate>& Candidates::found() const {
    static const std::vector<Candidate> none;
    return shown_ && found_.value() ? *found_.value() : none;
}

void Candidates::show(bool shown) {
    if (shown == shown_) return;
    shown_ = shown;
    if (shown) refresh();
    else found_.clear();
    emit changed();
}

void Candidates::refresh() {
    const Player& player = session_.player;
    const int frame = player.frame();
    if (!shown_ || player.isPlaying() || !player.picture() || player.pictureFrame() != frame) return;
    const Shot& shot = session_.shot();
    found_.want({frame, shot.scatterSettings, shot.mattes},
                [shot, picture = player.picture(), frame](const Progress&) -> Expected<std::vector<Candidate>> {
                    const ScatterOptions options = scatterOptionsOf(shot, frame);
                    CandidateOptions wanted = options.candidates;
                    wanted.border_px = std::max(wanted.border_px, options.pattern_px / 2 + 4);
                    return findCandidates(buildPyramid(*picture, options.channel), wanted, {}, options.mattes, frame);
                });
}

}  // namespace pinion
