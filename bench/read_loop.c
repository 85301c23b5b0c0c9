/* Reads a file or device from its start past the page cache, `depth` threads each a block at a time, for the ratio of
   `bench/drive_scan.py`. Built there with: cc -O2 -pthread. Prints the seconds that it took. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

static int fd;
static size_t block;
static long blocks;
static atomic_long next_block;

static void *work(void *unused) {
    (void)unused;
    void *buffer;
    if (posix_memalign(&buffer, 4096, block)) exit(2);
    for (long n; (n = atomic_fetch_add(&next_block, 1)) < blocks;)
        if (pread(fd, buffer, block, (off_t)n * block) < 0) exit(3);
    free(buffer);
    return 0;
}

int main(int argc, char **argv) {
    if (argc != 5) return 2;
    int depth = atoi(argv[2]);
    block = strtoul(argv[3], 0, 10);
    blocks = strtol(argv[4], 0, 10);
    fd = open(argv[1], O_RDONLY | O_DIRECT);
    if (fd < 0 || depth < 1 || depth > 64) return 4;
    struct timespec a, b;
    pthread_t threads[64];
    clock_gettime(CLOCK_MONOTONIC, &a);
    for (int i = 0; i < depth; i++) pthread_create(&threads[i], 0, work, 0);
    for (int i = 0; i < depth; i++) pthread_join(threads[i], 0);
    clock_gettime(CLOCK_MONOTONIC, &b);
    printf("%.6f\n", (b.tv_sec - a.tv_sec) + (b.tv_nsec - a.tv_nsec) * 1e-9);
    return 0;
}
