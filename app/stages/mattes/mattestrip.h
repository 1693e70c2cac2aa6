#pragma once

#include "sheet/strip.h"
#include "stages/mattes/mattehand.h"

#include <optional>

namespace pinion {

/// The shapes over the thread sheet while their card is open, a row each: keyframes as small squares that can be
/// dragged to another frame (with Ctrl a copy), and a line where the shape counts.
class MatteStrip : public SheetStrip {
public:
    MatteStrip(Session& session, MatteHand& hand) : session_(session), hand_(hand) {}
    int height() const override;
    void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) override;
    QString whatIsAt(const StripEvent& at) const override;
    void click(double y) override;
    bool press(const StripEvent& at) override;
    void drag(const StripEvent& at) override;
    void release(const StripEvent& at) override;

    bool shown = false;

private:
    std::optional<std::size_t> matteAt(double y) const;
    std::size_t firstRow() const;
    std::size_t rows() const;
    /// The keyframe nearest to a frame, if it is as near as the eye means.
    std::optional<int> keyNear(const Matte& matte, int frame) const;

    Session& session_;
    MatteHand& hand_;
    struct Drag {
        std::size_t matte;
        int from, to;
        bool copies;
    };
    std::optional<Drag> drag_;
    double cell_ = 8;  ///< width of a frame when it was painted last
};

}  // namespace pinion
