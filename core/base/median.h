#pragma once

#include <algorithm>
#include <vector>

namespace pinion {

/// The upper median; 0 of nothing.
inline double median(std::vector<double> values) {
    if (values.empty()) return 0.0;
    const auto middle = values.begin() + std::ptrdiff_t(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

}  // namespace pinion
