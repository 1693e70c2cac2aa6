#pragma once

#include <cstddef>

namespace pinion::solving {

// The inner loops of the adjustment, compiled for the processor at hand. Only sources of camera/ use them.

/// A matrix by rows that are `stride` apart.
struct RowsOf {
    double* first;
    std::ptrdiff_t stride;
};

/// target (rows x columns) -= left (rows x depth) * right^T (columns x depth).
void subtractTransposed(RowsOf target, RowsOf left, RowsOf right, int rows, int columns, int depth);

/// target (6 x 6) -= tall (6 x 3) * flat (3 x 6); both lie without gaps.
void subtractProduct6(RowsOf target, const double* tall, const double* flat);

/// target (6 x 6) += left^T right, of two 2 x 6 that lie by columns.
void addSquare6(RowsOf target, const double* left, const double* right);

}  // namespace pinion::solving
