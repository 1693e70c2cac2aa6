#include "camera/kernels.h"

#include "base/cloned.h"

namespace pinion::solving {

namespace {

/// Four numbers at once, wherever they lie; the compiler halves them where the processor has two.
using Four = double __attribute__((vector_size(32), aligned(8)));

template <int Rows, int Columns>
[[gnu::always_inline]] inline void tile(const RowsOf& target, const RowsOf& left, const RowsOf& right, int depth) {
    Four sums[Rows][Columns] = {};
    int k = 0;
    for (; k + 4 <= depth; k += 4) {
        Four b[Columns];
        for (int c = 0; c < Columns; ++c) b[c] = *reinterpret_cast<const Four*>(right.first + c * right.stride + k);
        for (int r = 0; r < Rows; ++r) {
            const Four a = *reinterpret_cast<const Four*>(left.first + r * left.stride + k);
            for (int c = 0; c < Columns; ++c) sums[r][c] += a * b[c];
        }
    }
    for (int r = 0; r < Rows; ++r)
        for (int c = 0; c < Columns; ++c) {
            const Four& own = sums[r][c];
            double sum = (own[0] + own[2]) + (own[1] + own[3]);
            for (int rest = k; rest < depth; ++rest)
                sum += left.first[r * left.stride + rest] * right.first[c * right.stride + rest];
            target.first[r * target.stride + c] -= sum;
        }
}

}  // namespace

PINION_CLONED
void subtractTransposed(RowsOf target, RowsOf left, RowsOf right, int rows, int columns, int depth) {
    const auto from = [](const RowsOf& all, int row) { return RowsOf{all.first + row * all.stride, all.stride}; };
    int r = 0;
    for (; r + 4 <= rows; r += 4) {
        int c = 0;
        for (; c + 3 <= columns; c += 3)
            tile<4, 3>({target.first + r * target.stride + c, target.stride}, from(left, r), from(right, c), depth);
        for (; c < columns; ++c)
            tile<4, 1>({target.first + r * target.stride + c, target.stride}, from(left, r), from(right, c), depth);
    }
    for (; r < rows; ++r)
        for (int c = 0; c < columns; ++c)
            tile<1, 1>({target.first + r * target.stride + c, target.stride}, from(left, r), from(right, c), depth);
}

PINION_CLONED
void subtractProduct6(RowsOf target, const double* __restrict tall, const double* __restrict flat) {
    double* __restrict first = target.first;
    for (int r = 0; r < 6; ++r)
        for (int c = 0; c < 6; ++c)
            first[r * target.stride + c] -=
                tall[r * 3] * flat[c] + tall[r * 3 + 1] * flat[6 + c] + tall[r * 3 + 2] * flat[12 + c];
}

PINION_CLONED
void addSquare6(RowsOf target, const double* __restrict left, const double* __restrict right) {
    double* __restrict first = target.first;
    double upper[6], lower[6];
    for (int c = 0; c < 6; ++c) {
        upper[c] = right[2 * c];
        lower[c] = right[2 * c + 1];
    }
    for (int r = 0; r < 6; ++r)
        for (int c = 0; c < 6; ++c) first[r * target.stride + c] += left[2 * r] * upper[c] + left[2 * r + 1] * lower[c];
}

}  // namespace pinion::solving
