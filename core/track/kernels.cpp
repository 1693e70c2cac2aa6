#include "track/kernels.h"

#include "base/cloned.h"

#include <algorithm>

namespace pinion::kernels {
namespace {

PINION_CLONED void sampleShifted(const float* __restrict pixels, int stride, float x0, float y0, int size,
                                 float* __restrict out) {
    const int ix = int(x0);
    const int iy = int(y0);
    const float fx = x0 - float(ix);
    const float fy = y0 - float(iy);
    const float w00 = (1 - fx) * (1 - fy), w01 = fx * (1 - fy), w10 = (1 - fx) * fy, w11 = fx * fy;
    for (int row = 0; row < size; ++row) {
        const float* __restrict p = pixels + std::ptrdiff_t(iy + row) * stride + ix;
        const float* __restrict q = p + stride;
        float* __restrict line = out + row * size;
        for (int column = 0; column < size; ++column)
            line[column] = w00 * p[column] + w01 * p[column + 1] + w10 * q[column] + w11 * q[column + 1];
    }
}

PINION_CLONED void sampleAffine(const float* __restrict pixels, int stride, const double* m, int size,
                                float* __restrict out) {
    const float half = 0.5F * float(size - 1);
    const float ax = float(m[0]), bx = float(m[1]), ay = float(m[3]), by = float(m[4]);
    for (int row = 0; row < size; ++row) {
        const float v = float(row) - half;
        const float x0 = bx * v + float(m[2]) - ax * half;
        const float y0 = by * v + float(m[5]) - ay * half;
        float* __restrict line = out + row * size;
        for (int column = 0; column < size; ++column) {
            const float x = ax * float(column) + x0;
            const float y = ay * float(column) + y0;
            const int ix = int(x);
            const int iy = int(y);
            const float fx = x - float(ix);
            const float fy = y - float(iy);
            const int at = iy * stride + ix;
            const float top = pixels[at] + fx * (pixels[at + 1] - pixels[at]);
            const float bottom = pixels[at + stride] + fx * (pixels[at + stride + 1] - pixels[at + stride]);
            line[column] = top + fy * (bottom - top);
        }
    }
}

PINION_CLONED void sampleProjective(const float* __restrict pixels, int stride, const double* m, int size,
                                    float* __restrict out) {
    const float half = 0.5F * float(size - 1);
    for (int row = 0; row < size; ++row) {
        const float v = float(row) - half;
        float* __restrict line = out + row * size;
        for (int column = 0; column < size; ++column) {
            const float u = float(column) - half;
            const float inverse = 1.0F / (float(m[6]) * u + float(m[7]) * v + float(m[8]));
            const float x = (float(m[0]) * u + float(m[1]) * v + float(m[2])) * inverse;
            const float y = (float(m[3]) * u + float(m[4]) * v + float(m[5])) * inverse;
            const int ix = int(x);
            const int iy = int(y);
            const float fx = x - float(ix);
            const float fy = y - float(iy);
            const int at = iy * stride + ix;
            const float top = pixels[at] + fx * (pixels[at + 1] - pixels[at]);
            const float bottom = pixels[at + stride] + fx * (pixels[at + stride + 1] - pixels[at + stride]);
            line[column] = top + fy * (bottom - top);
        }
    }
}

}  // namespace

bool samplePattern(const ImageChannel& plane, const Warp& warp, int size, float* out) {
    const double* m = warp.m;
    const double half = 0.5 * (size - 1);
    const double right = plane.width - 1.001;
    const double bottom = plane.height - 1.001;
    for (int corner = 0; corner < 4; ++corner) {
        const double u = corner & 1 ? half : -half;
        const double v = corner & 2 ? half : -half;
        const double w = m[6] * u + m[7] * v + m[8];
        if (!(w > 0.2)) return false;
        const double x = (m[0] * u + m[1] * v + m[2]) / w;
        const double y = (m[3] * u + m[4] * v + m[5]) / w;
        if (!(x >= 0.001 && y >= 0.001 && x <= right && y <= bottom)) return false;
    }
    if (warp.isShift())
        sampleShifted(plane.values.data(), plane.width, float(m[2] - half), float(m[5] - half), size, out);
    else if (m[6] == 0 && m[7] == 0 && m[8] == 1) sampleAffine(plane.values.data(), plane.width, m, size, out);
    else sampleProjective(plane.values.data(), plane.width, m, size, out);
    return true;
}

PINION_CLONED void differentiate(const float* __restrict padded, int size, float* __restrict values,
                                 float* __restrict gradientX, float* __restrict gradientY) {
    const int stride = size + 2;
    for (int row = 0; row < size; ++row) {
        const float* __restrict p = padded + (row + 1) * stride + 1;
        for (int column = 0; column < size; ++column) {
            values[row * size + column] = p[column];
            gradientX[row * size + column] = 0.5F * (p[column + 1] - p[column - 1]);
            gradientY[row * size + column] = 0.5F * (p[column + stride] - p[column - stride]);
        }
    }
}

PINION_CLONED Sums sums(const float* __restrict values, int count) {
    float sum = 0;
    float squares = 0;
    for (int i = 0; i < count; ++i) {
        sum += values[i];
        squares += values[i] * values[i];
    }
    return {sum, squares};
}

PINION_CLONED float dot(const float* __restrict a, const float* __restrict b, int count) {
    float sum = 0;
    for (int i = 0; i < count; ++i) sum += a[i] * b[i];
    return sum;
}

PINION_CLONED void multiply(float* __restrict values, const float* __restrict mask, int count) {
    for (int i = 0; i < count; ++i) values[i] *= mask[i];
}

PINION_CLONED void subtract(float* __restrict values, float offset, float factor, const float* __restrict other,
                            int count) {
    for (int i = 0; i < count; ++i) values[i] -= offset + factor * other[i];
}

PINION_CLONED void correlateRow(const float* __restrict window, int stride, const float* __restrict patch, int side,
                                int shifts, float* __restrict products) {
    std::fill(products, products + shifts, 0.0F);
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            const float weight = patch[y * side + x];
            const float* __restrict source = window + y * stride + x;
            for (int s = 0; s < shifts; ++s) products[s] += weight * source[s];
        }
}

}  // namespace pinion::kernels
