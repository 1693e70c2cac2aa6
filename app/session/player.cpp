#include "session/player.h"

#include <algorithm>

namespace pinion {

Player::Player(Document& document) : document_(document) {
    timer_.setTimerType(Qt::PreciseTimer);
    connect(&timer_, &QTimer::timeout, this, [this] { tick(); });
}

Player::~Player() {
    if (frames_) frames_->setListener({});
}

void Player::setBudget(std::size_t bytes) {
    budget_ = bytes;
    if (frames_) frames_->setBudget(bytes);
}

void Player::tick() {
    if (!frames_) return;
    const PlateRef& plate = document_.shot().plate;
    // The clock says how many frames are due; one is shown a tick, so that none is dropped while the cache keeps up.
    const double due = double(clock_.nsecsElapsed()) * 1e-9 * plate.fps.perSecond();
    if (due < shown_ + 1) return;
    const int next = frame_ >= plate.range.last || frame_ < plate.range.first ? plate.range.first : frame_ + 1;
    // A frame that cannot be read is passed over with the picture before it, not waited for.
    if (!frames_->peek(next) && !unreadable_.contains(next)) {
        wantAround();
        // Waiting for the disk is not to be made up for by a burst.
        shown_ = int(due);
        return;
    }
    ++shown_;
    if (due > shown_ + 2) shown_ = int(due);
    frame_ = next;
    frameProblem_ = unreadable_.contains(next) ? unreadable_.at(next) : QString();
    refreshPicture();
    wantAround();
    emit frameChanged();
}

void Player::take(const std::shared_ptr<const Plate>& plate) {
    setPlaying(false);
    if (frames_) frames_->setListener({});
    frames_ = plate ? std::make_shared<FrameCache>(plate, budget_) : nullptr;
    picture_.reset();
    frameProblem_.clear();
    unreadable_.clear();
    if (frames_) {
        frames_->setListener([this](int frame, const Error* error) {
            const QString problem = error ? text(error->message) : QString();
            QMetaObject::invokeMethod(this, [this, frame, problem] { onFrameRead(frame, problem); });
        });
        frame_ = document_.shot().plate.range.first;
        wantAround();
    }
    emit plateChanged();
    emit frameChanged();
}

void Player::onFrameRead(int frame, const QString& problem) {
    if (problem.isEmpty()) unreadable_.erase(frame);
    else unreadable_[frame] = problem;
    if (frame != frame_) return;
    frameProblem_ = problem;
    refreshPicture();
    emit frameChanged();
}

void Player::wantAround() {
    if (!frames_) return;
    const FrameRange& range = document_.shot().plate.range;
    std::vector<int> wanted;
    const auto want = [&](int frame) {
        // Read anew by whoever stops on it; while playing it would be at every step.
        if (frames_->facts().holds(frame) && !(isPlaying() && unreadable_.contains(frame))) wanted.push_back(frame);
    };
    want(frame_);
    // Ahead by as much as fits comfortably, round the loop when playing.
    const int room = int(std::min<std::size_t>(120, frames_->budget() / 2 / frames_->frameBytes()));
    const int ahead = std::min(isPlaying() ? 48 : 16, room);
    for (int i = 1; i <= ahead; ++i) {
        const int next = frame_ + i;
        want(isPlaying() && next > range.last ? range.first + (next - range.last - 1) % std::max(1, range.count())
                                              : next);
        if (!isPlaying() && i <= 4) want(frame_ - i);
    }
    frames_->want(std::move(wanted));
}

void Player::refreshPicture() {
    if (!frames_) return;
    if (auto picture = frames_->peek(frame_)) {
        picture_ = picture;
        pictureFrame_ = frame_;
        frameProblem_.clear();
    }
}

void Player::goTo(int frame) {
    if (!frames_) return;
    frame = std::clamp(frame, document_.shot().plate.frames.first, document_.shot().plate.frames.last);
    if (frame == frame_) return;
    frame_ = frame;
    clock_.restart();
    shown_ = 0;
    frameProblem_.clear();
    refreshPicture();
    wantAround();
    emit frameChanged();
}

void Player::setPlaying(bool playing) {
    if (playing == isPlaying() || (playing && !frames_)) return;
    if (playing) {
        clock_.restart();
        shown_ = 0;
        timer_.start(std::max(1, int(250.0 / document_.shot().plate.fps.perSecond())));
        wantAround();
    } else {
        timer_.stop();
    }
    emit playingChanged();
}

void Player::setView(const ViewTransform& view) {
    if (view == view_) return;
    view_ = view;
    emit viewChanged();
}

}  // namespace pinion
