#pragma once

#include "track/advice.h"

#include <QObject>

#include <span>
#include <vector>

namespace pinion {

/// The spots that were proposed in an area, the best first; derived, never part of the shot.
class Spots : public QObject {
    Q_OBJECT
public:
    const std::vector<SpotProposal>& all() const { return spots_; }
    int frame() const { return frame_; }
    std::span<const SpotProposal> on(int frame) const {
        return frame == frame_ ? std::span<const SpotProposal>(spots_) : std::span<const SpotProposal>();
    }
    void set(std::vector<SpotProposal> spots, int frame) {
        spots_ = std::move(spots);
        frame_ = frame;
        emit changed();
    }
    void clear() {
        if (!spots_.empty()) set({}, 0);
    }

signals:
    void changed();

private:
    std::vector<SpotProposal> spots_;
    int frame_ = 0;
};

}  // namespace pinion
