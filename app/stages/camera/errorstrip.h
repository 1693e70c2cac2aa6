#pragma once

#include "sheet/strip.h"
#include "stages/camera/solvelooker.h"

namespace pinion {

/// The error of every frame over the thread sheet, while the Camera card is open.
class ErrorStrip : public SheetStrip {
public:
    ErrorStrip(const Session& session, const SolveLooker& looker) : session_(session), looker_(looker) {}
    int height() const override;
    void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) override;
    QString whatIsAt(const StripEvent& at) const override;

private:
    const Session& session_;
    const SolveLooker& looker_;
};

}  // namespace pinion
