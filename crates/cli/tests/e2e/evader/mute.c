/* A file system of a user's own that stops answering, and a program that hangs whoever looks at it closely. The first argument says by
 * what, the second is a folder of its own, the third whose it is. It ends with its standard input, or after three minutes. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <linux/fuse.h>
#include <sched.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

static char *content;
static size_t length;
static volatile int *mute;

static void put(const char *path, const char *text) {
    int file = open(path, O_WRONLY);
    if (file < 0 || write(file, text, strlen(text)) < 0) { perror(path); _exit(1); }
    close(file);
}

static void fill(struct fuse_attr *attr, unsigned long node) {
    memset(attr, 0, sizeof *attr);
    attr->ino = node;
    attr->nlink = 1;
    attr->uid = getuid();
    attr->gid = getgid();
    attr->blksize = 4096;
    attr->mode = node == FUSE_ROOT_ID ? S_IFDIR | 0755 : S_IFREG | 0755;
    attr->size = node == FUSE_ROOT_ID ? 0 : length;
}

/* Answers until it is mute, and never to a flush. */
static void serve(int device) {
    static char buffer[1 << 20];
    for (;;) {
        struct pollfd both[2] = {{.fd = 0}, {.fd = device, .events = POLLIN}};
        if (poll(both, *mute ? 1 : 2, -1) < 0) continue;
        if (both[0].revents & POLLHUP) _exit(0);
        if (*mute) continue;
        ssize_t got = read(device, buffer, sizeof buffer);
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) _exit(0);
        struct fuse_in_header *in = (void *)buffer;
        static char answer[(1 << 17) + sizeof(struct fuse_out_header)];
        struct fuse_out_header *out = (void *)answer;
        void *body = answer + sizeof *out;
        size_t size = 0;
        int error = 0;
        memset(answer, 0, 512);
        switch (in->opcode) {
        case FUSE_INIT: {
            struct fuse_init_in *want = (void *)(in + 1);
            struct fuse_init_out *init = body;
            init->major = FUSE_KERNEL_VERSION;
            init->minor = want->minor < FUSE_KERNEL_MINOR_VERSION ? want->minor : FUSE_KERNEL_MINOR_VERSION;
            init->max_readahead = want->max_readahead;
            init->max_write = 1 << 16;
            size = sizeof *init;
            break;
        }
        case FUSE_GETATTR: {
            struct fuse_attr_out *attr = body;
            fill(&attr->attr, in->nodeid);
            size = sizeof *attr;
            break;
        }
        case FUSE_LOOKUP: {
            struct fuse_entry_out *entry = body;
            if (strcmp((char *)(in + 1), "labelpress")) { error = -ENOENT; break; }
            entry->nodeid = 2;
            fill(&entry->attr, 2);
            size = sizeof *entry;
            break;
        }
        case FUSE_OPEN: case FUSE_OPENDIR: size = sizeof(struct fuse_open_out); break;
        case FUSE_READ: {
            struct fuse_read_in *read = (void *)(in + 1);
            if (read->offset < length) {
                size = length - read->offset < read->size ? length - read->offset : read->size;
                memcpy(body, content + read->offset, size);
            }
            break;
        }
        case FUSE_STATFS: size = sizeof(struct fuse_statfs_out); break;
        case FUSE_FLUSH: continue;
        case FUSE_FORGET: case FUSE_BATCH_FORGET: case FUSE_INTERRUPT: continue;
        case FUSE_RELEASE: case FUSE_RELEASEDIR: break;
        default: error = -ENOSYS;
        }
        out->unique = in->unique;
        out->error = error;
        out->len = sizeof *out + size;
        if (write(device, answer, out->len) < 0 && errno != ENOENT) _exit(0);
    }
}

int main(int argc, char **argv) {
    const char *by = argc > 1 ? argv[1] : "";
    alarm(180);
    if (!strcmp(by, "rest")) {
        puts("ready");
        fflush(stdout);
        for (;;) pause();
    }
    unsigned user = argc > 3 ? atoi(argv[3]) : getuid();
    char map[64], options[128], path[4096], lower[4096], over[4096], node[4096];
    /* Where only root may use the device, as on a server, root lends it: on a desktop everybody may. */
    snprintf(node, sizeof node, "%s/device", argv[2]);
    if (mknod(node, S_IFCHR | 0666, makedev(10, 229)) || chmod(node, 0666)) { perror(node); return 1; }
    FILE *own = fopen("/proc/self/exe", "rb");
    fseek(own, 0, SEEK_END);
    length = ftell(own);
    rewind(own);
    content = malloc(length);
    if (fread(content, 1, length, own) != length) return 1;
    if (user && (setresgid(user, user, user) || setresuid(user, user, user))) return 1;
    prctl(PR_SET_DUMPABLE, 1);
    gid_t group = getgid();
    if (unshare(CLONE_NEWUSER | CLONE_NEWNS)) { perror("unshare"); return 1; }
    put("/proc/self/setgroups", "deny");
    snprintf(map, sizeof map, "%u %u 1", user, user);
    put("/proc/self/uid_map", map);
    snprintf(map, sizeof map, "%u %u 1", group, group);
    put("/proc/self/gid_map", map);
    int device = open(node, O_RDWR | O_CLOEXEC);
    if (device < 0) { perror(node); return 1; }
    mute = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    const char *folder = argv[2];
    snprintf(path, sizeof path, "%s/fuse", folder);
    mkdir(path, 0755);
    snprintf(options, sizeof options, "fd=%d,rootmode=40000,user_id=%u,group_id=%u,allow_other", device, user, group);
    if (mount("mute", path, "fuse", MS_NOSUID | MS_NODEV, options)) { perror("mount"); return 1; }
    if (!fork()) {
        prctl(PR_SET_PDEATHSIG, SIGKILL);
        alarm(180);
        serve(device);
    }
    close(device);
    if (!strcmp(by, "exec")) {
        /* Its files are closed in the middle of an exec, and that never ends. */
        snprintf(path, sizeof path, "%s/fuse/labelpress", folder);
        if (open(path, O_RDONLY | O_CLOEXEC) < 0) { perror(path); return 1; }
        printf("ready %d\n", getpid());
        fflush(stdout);
        execl("/proc/self/exe", "labelpress", "rest", NULL);
        return 1;
    }
    if (!strcmp(by, "program")) {
        /* It runs a file of that file system, seen through another. */
        snprintf(lower, sizeof lower, "%s/empty", folder);
        mkdir(lower, 0755);
        snprintf(over, sizeof over, "%s/over", folder);
        mkdir(over, 0755);
        char text[9000];
        if (mount("own", lower, "tmpfs", 0, NULL)) { perror("tmpfs"); return 1; }
        snprintf(path, sizeof path, "%s/upper", lower);
        mkdir(path, 0755);
        snprintf(path, sizeof path, "%s/work", lower);
        mkdir(path, 0755);
        snprintf(text, sizeof text, "userxattr,lowerdir=%s/fuse,upperdir=%s/upper,workdir=%s/work", folder, lower, lower);
        if (mount("overlay", over, "overlay", 0, text)) { perror("overlay"); return 1; }
        snprintf(path, sizeof path, "%s/labelpress", over);
        int said_by[2];
        if (pipe(said_by)) return 1;
        pid_t child = fork();
        if (!child) {
            dup2(said_by[1], 1);
            prctl(PR_SET_PDEATHSIG, SIGKILL);
            execl(path, "labelpress", "rest", NULL);
            perror(path);
            _exit(1);
        }
        /* Once it says that it is ready. */
        char said;
        close(said_by[1]);
        while (read(said_by[0], &said, 1) > 0 && said != '\n') {}
        *mute = 1;
        printf("ready %d\n", child);
        fflush(stdout);
        for (;;) pause();
    }
    return 1;
}
