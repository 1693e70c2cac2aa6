#pragma once

#include <cmath>

namespace pinion {

/// A sum of log(1 + x), x >= 0, as robust costs are: one logarithm for many terms. Each term is exact to 1e-16, which
/// is what a term of its own would lose beside the sum.
class LogSum {
public:
    void add(double x) {
        product_ *= 1 + x;
        if (product_ > 1e200) {
            sum_ += std::log(product_);
            product_ = 1;
        }
    }
    double value() const { return sum_ + std::log(product_); }

private:
    double sum_ = 0, product_ = 1;
};

}  // namespace pinion
