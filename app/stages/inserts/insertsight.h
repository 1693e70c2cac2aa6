#pragma once

#include "canvas/sight.h"
#include "stages/inserts/inserthand.h"

#include <list>
#include <map>
#include <mutex>

namespace pinion {

/// What could not be shown as it should, frame by frame; filled by the threads that make the pictures.
struct InsertProblems {
    std::mutex mutex;
    std::map<int, std::vector<std::string>> byFrame;
};

/// The plate with its inserts, as they will be rendered. While one is dragged the others alone: that one is drawn over
/// them at the view's resolution.
class InsertSight : public Sight {
public:
    InsertSight(const Session& session, const InsertHand& hand) : session_(session), hand_(hand) {}
    QString name() const override { return "inserts"; }
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int frame) const override;
    QString words(int frame) const override;
    bool isOverPlate() const override { return true; }
    bool isTroubled() const override { return !problemAt(session_.player.frame()).isEmpty(); }

private:
    QString problemAt(int frame) const;
    struct Made {
        int frame;
        std::shared_ptr<const InsertScene> scene;
        std::shared_ptr<const Rendering> rendering;
    };
    const Session& session_;
    const InsertHand& hand_;
    mutable std::list<Made> made_;  ///< the latest used first
    mutable std::shared_ptr<InsertProblems> problems_ = std::make_shared<InsertProblems>();
    mutable std::shared_ptr<const InsertScene> problemsOf_;
};

}  // namespace pinion
