// Plain C++ of the work that our kernels do, as anybody would write it: the peers of bin/bench.
#include <cmath>
#include <cstdint>
#include <vector>

// Conjugate-gradient steps of weighted alternating least squares for every row; the same steps as our kernel.
extern "C" void als_rows(int64_t n_rows, int rank, const int64_t* indptr, const int32_t* indices, const float* weights,
                         const float* other, const float* gram, const float* ridge, int steps, float* mine) {
#pragma omp parallel
  {
    std::vector<float> r(rank), p(rank), Ap(rank);
#pragma omp for schedule(dynamic, 256)
    for (int64_t row = 0; row < n_rows; ++row) {
      float* x = mine + row * rank;
      const int64_t start = indptr[row], stop = indptr[row + 1];
      if (start == stop) {
        for (int f = 0; f < rank; ++f) x[f] = 0;
        continue;
      }
      auto product = [&](const float* v, float* out, bool residual) {
        for (int f = 0; f < rank; ++f) out[f] = ridge[row] * v[f];
        for (int g = 0; g < rank; ++g)
          for (int f = 0; f < rank; ++f) out[f] += v[g] * gram[g * rank + f];
        if (residual)
          for (int f = 0; f < rank; ++f) out[f] = -out[f];
        for (int64_t at = start; at < stop; ++at) {
          const float* y = other + int64_t(indices[at]) * rank;
          float fit = 0;
          for (int f = 0; f < rank; ++f) fit += y[f] * v[f];
          const float scale = residual ? weights[at] * (1 - fit) : weights[at] * fit;
          for (int f = 0; f < rank; ++f) out[f] += scale * y[f];
        }
      };
      product(x, r.data(), true);
      float old = 0;
      for (int f = 0; f < rank; ++f) p[f] = r[f], old += r[f] * r[f];
      for (int step = 0; step < steps && old > 1e-20f; ++step) {
        product(p.data(), Ap.data(), false);
        float curve = 0;
        for (int f = 0; f < rank; ++f) curve += p[f] * Ap[f];
        const float length = old / curve;
        float fresh = 0;
        for (int f = 0; f < rank; ++f) {
          x[f] += length * p[f];
          r[f] -= length * Ap[f];
          fresh += r[f] * r[f];
        }
        for (int f = 0; f < rank; ++f) p[f] = r[f] + fresh / old * p[f];
        old = fresh;
      }
    }
  }
}

// One epoch of pairwise logistic steps without any locks or blocks: threads may tread on each other.
extern "C" void pair_epoch(int64_t n_users, int64_t n_items, int rank, const int64_t* indptr, const int32_t* indices,
                           float* X, float* Y, float rate, float penalty, uint64_t seed) {
#pragma omp parallel for schedule(dynamic, 256)
  for (int64_t u = 0; u < n_users; ++u) {
    uint64_t state = seed + uint64_t(u) * 0x9E3779B97F4A7C15ull;
    float* x = X + u * rank;
    for (int64_t at = indptr[u]; at < indptr[u + 1]; ++at) {
      state = state * 6364136223846793005ull + 1442695040888963407ull;
      float* yi = Y + int64_t(indices[at]) * rank;
      float* yj = Y + int64_t((state >> 33) % uint64_t(n_items)) * rank;
      float margin = 0;
      for (int f = 0; f < rank; ++f) margin += x[f] * (yi[f] - yj[f]);
      const float chance = 1 / (1 + std::exp(margin));
      for (int f = 0; f < rank; ++f) {
        const float held = x[f], difference = yi[f] - yj[f];
        x[f] += rate * (chance * difference - penalty * held);
        yi[f] += rate * (chance * held - penalty * yi[f]);
        yj[f] += rate * (-chance * held - penalty * yj[f]);
      }
    }
  }
}
