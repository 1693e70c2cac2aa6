#pragma once

// A function compiled twice: for processors with AVX2 and FMA, and for all others; the loader picks. The loader runs
// before the sanitisers do, which cannot bear it.
#if defined(__x86_64__) && !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
#define PINION_CLONED __attribute__((target_clones("arch=x86-64-v3", "default")))
#else
#define PINION_CLONED
#endif
