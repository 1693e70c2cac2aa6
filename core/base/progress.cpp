#include "base/progress.h"

#include <utility>

namespace pinion {

Progress::Progress(Listener listener) : state_(std::make_shared<State>()) { state_->listener = std::move(listener); }

void Progress::report(double fraction, const std::string& what) const {
    if (state_->listener) state_->listener(from_ + (to_ - from_) * fraction, what);
}

Progress Progress::part(double from, double to) const {
    Progress part = *this;
    part.from_ = from_ + (to_ - from_) * from;
    part.to_ = from_ + (to_ - from_) * to;
    return part;
}

}  // namespace pinion
