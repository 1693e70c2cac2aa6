#pragma once

#include "canvas/sight.h"
#include "comp/composing.h"
#include "session/session.h"

#include <list>
#include <map>
#include <memory>
#include <mutex>

namespace pinion {

/// The plate with layers over it, as they will be rendered.
class ComposedSight : public Sight {
public:
    explicit ComposedSight(const Session& session) : session_(session) {}
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int frame) const override;
    bool isOverPlate() const override { return true; }
    bool isTroubled() const override { return !problemAt(session_.player.frame()).isEmpty(); }

protected:
    /// The layers that are laid; null until they are worked out.
    virtual std::shared_ptr<const InsertScene> laid() const = 0;
    /// All of them, also while one is dragged: whose problems are told.
    virtual std::shared_ptr<const InsertScene> whole() const = 0;
    virtual std::shared_ptr<ArtShelf> shelf() const = 0;
    QString problemAt(int frame) const;

    const Session& session_;

private:
    /// What could not be shown as it should, frame by frame; filled by the threads that make the pictures.
    struct Problems {
        std::mutex mutex;
        std::map<int, std::vector<std::string>> byFrame;
    };
    struct Made {
        int frame;
        std::shared_ptr<const InsertScene> scene;
        std::shared_ptr<const Rendering> rendering;
    };
    class Composition;
    mutable std::list<Made> made_;  ///< the latest used first
    mutable std::shared_ptr<Problems> problems_ = std::make_shared<Problems>();
    mutable std::shared_ptr<const InsertScene> problemsOf_;
};

}  // namespace pinion
