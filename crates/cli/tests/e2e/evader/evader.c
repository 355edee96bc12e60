/* A program that does not want to be caught. The first argument says by what; it ends by itself after three minutes. */
#define _GNU_SOURCE
#include <pthread.h>
#include <semaphore.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <time.h>
#include <unistd.h>

static const size_t HELD = 70u << 20;

static void hold(void) {
    char *held = malloc(HELD);
    if (!held) _exit(1);
    memset(held, 1, HELD);
}

static void *hold_on(void *nothing) {
    (void)nothing;
    hold();
    puts("ready");
    fflush(stdout);
    for (;;) pause();
}

/* Forks, lets the child go on and exits, over and over: each uses as many milliseconds of CPU as that. The first one stays,
 * collects them as a service manager does, and asks for nobody's time. */
static void chain(clock_t milliseconds) {
    time_t over = time(NULL) + 180;
    signal(SIGCHLD, SIG_IGN);
    prctl(PR_SET_CHILD_SUBREAPER, 1);
    puts("ready");
    fflush(stdout);
    if (fork() > 0) {
        for (;;) pause();
    }
    while (time(NULL) < over) {
        clock_t until = clock() + milliseconds * (CLOCKS_PER_SEC / 1000);
        while (clock() < until) {}
        if (fork() > 0) _exit(0);
    }
    _exit(0);
}

/* Holds its memory for so many milliseconds, forks, lets the child go on with it and exits, over and over. */
static void relay(unsigned milliseconds) {
    time_t over = time(NULL) + 60;
    hold();
    puts("ready");
    fflush(stdout);
    while (time(NULL) < over) {
        usleep(milliseconds * 1000);
        if (fork() > 0) _exit(0);
    }
    _exit(0);
}

static pthread_mutex_t locks[2] = {PTHREAD_MUTEX_INITIALIZER, PTHREAD_MUTEX_INITIALIZER};
static sem_t tickets[2];
static pthread_barrier_t both;

/* Wants the other one's lock, in which it stands who holds it. */
static void *lock_both(void *own) {
    pthread_mutex_lock(&locks[own != NULL]);
    pthread_barrier_wait(&both);
    pthread_mutex_lock(&locks[own == NULL]);
    return NULL;
}

/* Waits for the other one to let it go on, which nothing tells whose turn it is. */
static void *after_you(void *own) {
    sem_wait(&tickets[own != NULL]);
    sem_post(&tickets[own == NULL]);
    return NULL;
}

static void entangle(void *(*part)(void *)) {
    pthread_t other;
    sem_init(&tickets[0], 0, 0);
    sem_init(&tickets[1], 0, 0);
    if (pthread_barrier_init(&both, NULL, 2) || pthread_create(&other, NULL, part, &other)) _exit(1);
    puts("ready");
    fflush(stdout);
    part(NULL);
}

int main(int count, char **words) {
    const char *by = count > 1 ? words[1] : "";
    alarm(180);
    if (!strcmp(by, "leaderless")) {
        pthread_t other;
        if (pthread_create(&other, NULL, hold_on, NULL)) return 1;
        pthread_exit(NULL);
    }
    if (!strcmp(by, "mutexes")) entangle(lock_both);
    if (!strcmp(by, "semaphores")) entangle(after_you);
    if (!strcmp(by, "relay")) relay(700);
    if (!strcmp(by, "chain")) chain(40);
    if (!strcmp(by, "undumpable")) prctl(PR_SET_DUMPABLE, 0);
    hold_on(NULL);
    return 0;
}
