#pragma once

#include "sheet/strip.h"
#include "stages/inserts/inserthand.h"

namespace pinion {

/// A row each insert in the thread sheet: the frames it is on, those its clip fills, where what carries it is missing,
/// and its opacity keys. Its ends are dragged to trim it, its middle to move its clip in time, a key to another frame.
class InsertStrip : public SheetStrip {
public:
    InsertStrip(Session& session, InsertHand& hand) : session_(session), hand_(hand) {}
    int height() const override;
    void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) override;
    QString whatIsAt(const StripEvent& at) const override;
    void click(double y) override;
    bool press(const StripEvent& at) override;
    void drag(const StripEvent& at) override;
    void release(const StripEvent& at) override;

    bool shown = false;  ///< while its card is open

private:
    enum class Part { none, first, last, all, key };
    struct Drag {
        InsertId insert;
        Part part;
        int from, to;
    };
    std::size_t rows() const;
    const Insert* insertAt(double y) const;
    FrameRange framesOf(const Insert& insert) const;
    Part partAt(const Insert& insert, int frame) const;
    Insert dragged(const Insert& insert) const;

    Session& session_;
    InsertHand& hand_;
    double cell_ = 1;
    std::optional<Drag> drag_;
};

}  // namespace pinion
