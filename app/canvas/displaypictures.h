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
/// playing comes to next can be asked for ahead.
class DisplayPictures {
public:
    /// `arrived` is called on the interface's thread when one more is ready.
    DisplayPictures(JobRunner& jobs, std::function<void()> arrived);

    /// The picture if it is ready; otherwise a null image, and it is being made. As the plate's, or by `rendering`.
    QImage get(const PicturePtr& picture, const ViewTransform& view,
               const std::shared_ptr<const Rendering>& rendering = nullptr);
    void clear();

private:
    struct Entry {
        PicturePtr picture;
        ViewTransform view;
        std::shared_ptr<const Rendering> rendering;
        QImage image;  ///< null while it is being made
    };
    struct State {
        std::list<Entry> entries;  ///< the latest used first
    };

    JobRunner& jobs_;
    std::function<void()> arrived_;
    std::shared_ptr<State> state_;
};

}  // namespace pinion
