#pragma once

#include "canvas/sight.h"
#include "picture/picture.h"
#include "session/jobrunner.h"

#include <QImage>

#include <functional>
#include <list>
#include <memory>

namespace pinion {

/// A picture as it is shown. From any thread.
QImage imageOf(const Picture& picture, const ViewTransform& view);

/// Pictures of the plate, ready for the screen, made beside the interface. A few are kept: those of the frames that
/// playing comes to next can be asked for ahead. What was asked for since `begin` is made, the latest first; what was
/// asked for before it and is not begun is left: it would come too late.
class DisplayPictures {
public:
    /// `arrived` is called on the interface's thread when one more is ready.
    DisplayPictures(JobRunner& jobs, std::function<void()> arrived);

    /// Asked for anew from here.
    void begin() { ++state_->round; }
    /// The picture if it is ready; otherwise a null image, and it will be made. As the plate's, or by `rendering`.
    QImage get(const PicturePtr& picture, const ViewTransform& view,
               const std::shared_ptr<const Rendering>& rendering = nullptr);
    /// The picture if it is ready.
    QImage peek(const PicturePtr& picture, const ViewTransform& view,
                const std::shared_ptr<const Rendering>& rendering) const;
    void clear();

private:
    struct Entry {
        PicturePtr picture;
        ViewTransform view;
        std::shared_ptr<const Rendering> rendering;
        int round = 0;
        bool begun = false;
        QImage image;  ///< null until it is made
    };
    struct State {
        std::list<Entry> entries;  ///< the latest used first
        int round = 0;
        int running = 0;
        bool called = false;  ///< `makeNext` is on its way
    };
    void makeNext();
    void make(Entry& entry);

    JobRunner& jobs_;
    std::function<void()> arrived_;
    std::shared_ptr<State> state_;
};

}  // namespace pinion
