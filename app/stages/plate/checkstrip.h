#pragma once

#include "sheet/strip.h"
#include "stages/plate/platestage.h"

namespace pinion {

/// The plate check over the thread sheet: four rows of bars, or one while it is folded. What a note speaks of glows; a
/// cut is a line through all of them.
class CheckStrip : public SheetStrip {
public:
    explicit CheckStrip(const PlateStage& plate) : plate_(plate) {}
    int height() const override;
    void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) override;
    QString whatIsAt(const StripEvent& at) const override;
    void click(double) override { unfolded_ = !unfolded_; }

private:
    bool isSpokenOf(int frame, int row) const;
    void paintNames(QPainter& painter, const QRect& area, double high) const;

    const PlateStage& plate_;
    bool unfolded_ = false;
};

}  // namespace pinion
