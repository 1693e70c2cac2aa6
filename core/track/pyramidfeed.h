#pragma once

#include "picture/pyramid.h"
#include "plate/framecache.h"

#include <future>
#include <memory>

namespace pinion {

using PyramidPtr = std::shared_ptr<const Pyramid>;

/// Decodes and prepares the next frame while the present one is tracked.
class PyramidFeed {
public:
    /// From the frame `first` to `last`, which may be before it.
    PyramidFeed(FrameCache& frames, Channel channel, PreFilter filter, int first, int last, int levels = 3)
        : frames_(frames),
          channel_(channel),
          filter_(filter),
          levels_(levels),
          step_(first <= last ? 1 : -1),
          next_(first),
          end_(last + step_) {
        prepare();
    }

    /// The next frame, or null when it cannot be read; `frame` is its number.
    PyramidPtr take(int& frame) {
        frame = next_;
        PyramidPtr pyramid = ahead_.get();
        next_ += step_;
        if (!atEnd()) prepare();
        return pyramid;
    }
    bool atEnd() const { return next_ == end_; }

private:
    void prepare() {
        ahead_ = std::async(std::launch::async, [this, frame = next_]() -> PyramidPtr {
            const auto picture = frames_.get(frame);
            if (!picture) return nullptr;
            return std::make_shared<const Pyramid>(buildPyramid(**picture, channel_, filter_, levels_));
        });
    }
    FrameCache& frames_;
    Channel channel_;
    PreFilter filter_;
    int levels_;
    int step_;
    int next_;
    int end_;
    std::future<PyramidPtr> ahead_;
};

}  // namespace pinion
