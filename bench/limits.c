/* The limits of this machine as plain C loops, for the ratios of `thresher bench-speed`.
   Built there with: cc -O3 -march=native -mprefer-vector-width=512 -shared -fPIC */
#include <stdint.h>
#include <stddef.h>
#include <string.h>
#if defined(__x86_64__)
#include <immintrin.h>
#endif

#if defined(__AVX512F__)
typedef __m512d vd; typedef __m512 vs;
#define VD 8
#define set_d _mm512_set1_pd
#define set_s _mm512_set1_ps
#define fma_d _mm512_fmadd_pd
#define fma_s _mm512_fmadd_ps
#define sum_d(v) _mm512_reduce_add_pd(v)
#define sum_s(v) _mm512_reduce_add_ps(v)
#elif defined(__AVX2__) && defined(__FMA__)
typedef __m256d vd; typedef __m256 vs;
#define VD 4
#define set_d _mm256_set1_pd
#define set_s _mm256_set1_ps
#define fma_d _mm256_fmadd_pd
#define fma_s _mm256_fmadd_ps
static double sum_d(vd v) { double a[4]; _mm256_storeu_pd(a, v); return a[0] + a[1] + a[2] + a[3]; }
static float sum_s(vs v) { float a[8], t = 0; _mm256_storeu_ps(a, v); for (int i = 0; i < 8; i++) t += a[i]; return t; }
#endif

/* Twelve independent sums of fused multiply-adds, each in a register of its own. Returns operations a turn. */
#define ALL(X) X(0) X(1) X(2) X(3) X(4) X(5) X(6) X(7) X(8) X(9) X(10) X(11)
#if defined(VD)
int fma_double(int64_t turns, double *out) {
    vd a = set_d(1.0 + 1e-9), b = set_d(1e-9), total = set_d(0.0);
#define BEGIN(n) vd s##n = set_d(1.0 + n);
#define STEP(n) s##n = fma_d(s##n, a, b); __asm__ volatile("" : "+v"(s##n));
#define END(n) total = fma_d(s##n, a, total);
    ALL(BEGIN)
    for (int64_t t = 0; t < turns; t++) { ALL(STEP) }
    ALL(END)
    *out = sum_d(total);
    return 24 * VD;
#undef BEGIN
#undef STEP
#undef END
}
int fma_single(int64_t turns, float *out) {
    vs a = set_s(1.0f + 1e-6f), b = set_s(1e-6f), total = set_s(0.0f);
#define BEGIN(n) vs s##n = set_s(1.0f + n);
#define STEP(n) s##n = fma_s(s##n, a, b); __asm__ volatile("" : "+v"(s##n));
#define END(n) total = fma_s(s##n, a, total);
    ALL(BEGIN)
    for (int64_t t = 0; t < turns; t++) { ALL(STEP) }
    ALL(END)
    *out = sum_s(total);
    return 48 * VD;
#undef BEGIN
#undef STEP
#undef END
}
#else
int fma_double(int64_t turns, double *out) { (void)turns; *out = 0; return 0; }
int fma_single(int64_t turns, float *out) { (void)turns; *out = 0; return 0; }
#endif

/* The integer chain of the load of that name: six chains in scalar registers, and vectors of 32. */
#define M 0x9E6C63D0876A9A47ull
#define I 0xD1B54A32D192ED03ull
#define B 0x5555555555555555ull
#define S 0x8CB92BA72F3D8DD7ull
static inline uint64_t link_once(uint64_t s) {
    s = s * M + I; s ^= s >> 29; s = (s << 23) | (s >> 41);
    return s < B ? s + S : s;
}
void chains_scalar(uint64_t *state, int64_t links) {
    uint64_t a = state[0], b = state[1], c = state[2], d = state[3], e = state[4], f = state[5];
    for (int64_t n = 0; n < links; n++) {
        a = link_once(a); b = link_once(b); c = link_once(c); d = link_once(d); e = link_once(e); f = link_once(f);
    }
    state[0] = a; state[1] = b; state[2] = c; state[3] = d; state[4] = e; state[5] = f;
}
void chains_vector(uint64_t *state, int64_t count, int64_t links) {
    for (int64_t start = 0; start < count; start += 32) {
        uint64_t block[32];
        memcpy(block, state + start, sizeof block);
        for (int64_t n = 0; n < links; n++)
            for (int lane = 0; lane < 32; lane++) block[lane] = link_once(block[lane]);
        memcpy(state + start, block, sizeof block);
    }
}

/* Memory: write, verify, verify and write the complement upwards and downwards. */
void memory_write(uint64_t *w, int64_t n, uint64_t v) { for (int64_t i = 0; i < n; i++) w[i] = v; }
uint64_t memory_verify(const uint64_t *w, int64_t n, uint64_t v) {
    uint64_t d = 0;
    for (int64_t i = 0; i < n; i++) d |= w[i] ^ v;
    return d;
}
uint64_t memory_up(uint64_t *w, int64_t n, uint64_t v) {
    uint64_t d = 0;
    for (int64_t i = 0; i < n; i++) { d |= w[i] ^ v; w[i] = ~v; }
    return d;
}
uint64_t memory_down(uint64_t *w, int64_t n, uint64_t v) {
    uint64_t d = 0;
    for (int64_t i = n - 1; i >= 0; i--) { d |= w[i] ^ v; w[i] = ~v; }
    return d;
}

/* Round trips between two cores through a cache line each way. */
void pass_there(volatile int64_t *mine, volatile int64_t *theirs, int64_t trips) {
    for (int64_t n = 1; n <= trips; n++) {
        __atomic_store_n(mine, n, __ATOMIC_RELEASE);
        while (__atomic_load_n(theirs, __ATOMIC_ACQUIRE) != n) __builtin_ia32_pause();
    }
}
void pass_back(volatile int64_t *mine, volatile int64_t *theirs, int64_t trips) {
    for (int64_t n = 1; n <= trips; n++) {
        while (__atomic_load_n(theirs, __ATOMIC_ACQUIRE) != n) __builtin_ia32_pause();
        __atomic_store_n(mine, n, __ATOMIC_RELEASE);
    }
}
