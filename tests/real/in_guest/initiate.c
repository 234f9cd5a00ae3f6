/* Disks of the kernel's own over iSCSI: initiate HOST PORT TARGET logs in as RFC 7143 has it, and gives the kernel the
   connection by its own messages (include/scsi/iscsi_if.h); initiate ends what there is. */

#include <arpa/inet.h>
#include <dirent.h>
#include <linux/netlink.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

enum { CREATE_SESSION = 11, DESTROY_SESSION, CREATE_CONN, DESTROY_CONN, BIND_CONN, SET_PARAM, START_CONN, STOP_CONN };
struct event {
    uint32_t type, error;
    uint64_t handle;
    union {
        struct { uint32_t number; uint16_t commands, depth; } session;
        struct { uint32_t session, connection; uint64_t socket; uint32_t first; } bind;
        struct { uint32_t session, connection, parameter, length; } set;
        struct { uint32_t session, connection; uint64_t handle; uint32_t flag; } stop;
        uint32_t ids[2];
    };
};
static int kernel;
static uint64_t handle;
static uint32_t session_number;
static size_t whole = 256;  /* bytes of an event in the kernel, known by its first answer */

static int tell(struct event *event, const char *value) {
    static char room[4096];
    struct nlmsghdr *head = (struct nlmsghdr *)room;
    size_t more = value ? strlen(value) + 1 : 0;
    memset(room, 0, sizeof room);
    head->nlmsg_len = NLMSG_LENGTH(whole + more);
    head->nlmsg_type = event->type;
    event->handle = handle;
    memcpy(NLMSG_DATA(head), event, sizeof *event);
    if (value) memcpy((char *)NLMSG_DATA(head) + whole, value, more);
    if (send(kernel, room, NLMSG_ALIGN(head->nlmsg_len), 0) < 0) { perror("tell"); exit(4); }
    for (;;) {
        ssize_t got = recv(kernel, room, sizeof room, 0);
        if (got < 0) { perror("hear"); exit(4); }
        if (head->nlmsg_type != event->type) continue;  /* news of its own */
        whole = head->nlmsg_len - NLMSG_HDRLEN;
        struct event *answer = NLMSG_DATA(head);
        if (answer->error) printf("initiate: event %u: error %d\n", event->type, (int)answer->error);
        return answer->error;
    }
}

/* Find the number of the only session there is. */
static void find(void) {
    DIR *all = opendir("/sys/class/iscsi_session");
    for (struct dirent *one; all && (one = readdir(all));) sscanf(one->d_name, "session%u", &session_number);
}

static void set(uint32_t parameter, const char *value) {
    struct event event = {.type = SET_PARAM};
    event.set.session = session_number;
    event.set.parameter = parameter;
    event.set.length = strlen(value) + 1;
    if (tell(&event, value)) exit(5);
}

static void get(int link, void *room, size_t length) {
    for (size_t done = 0; done < length;) {
        ssize_t got = read(link, (char *)room + done, length - done);
        if (got <= 0) { puts("initiate: the target ended it"); exit(3); }
        done += got;
    }
}

/* Return the value of a key in the target's answer, or what holds without one. */
static const char *value_of(const char *text, size_t length, const char *key, const char *otherwise) {
    size_t size = strlen(key);
    for (const char *at = text; at < text + length; at += strlen(at) + 1)
        if (!strncmp(at, key, size) && at[size] == '=') return at + size + 1;
    return otherwise;
}

static const char *bit(const char *value) { return !strcmp(value, "Yes") || !strcmp(value, "CRC32C") ? "1" : "0"; }

static int end(void) {
    struct event stop = {.type = STOP_CONN}, connection = {.type = DESTROY_CONN}, session = {.type = DESTROY_SESSION};
    find();
    stop.stop.session = connection.ids[0] = session.ids[0] = session_number;
    stop.stop.flag = 1;
    return tell(&stop, 0) | tell(&connection, 0) | tell(&session, 0) ? 1 : 0;
}

int main(int count, char **words) {
    char text[4096] = "0";
    FILE *file = fopen("/sys/class/iscsi_transport/tcp/handle", "r");
    if (!file || !fgets(text, sizeof text, file)) { perror("handle"); return 1; }
    handle = strtoull(text, 0, 0);
    kernel = socket(AF_NETLINK, SOCK_RAW, NETLINK_ISCSI);
    struct sockaddr_nl own = {.nl_family = AF_NETLINK, .nl_groups = 1};
    bind(kernel, (struct sockaddr *)&own, sizeof own);
    if (count == 1) return end();
    struct sockaddr_in where = {.sin_family = AF_INET, .sin_port = htons(atoi(words[2]))};
    inet_pton(AF_INET, words[1], &where.sin_addr);
    int link = socket(AF_INET, SOCK_STREAM, 0);
    if (connect(link, (struct sockaddr *)&where, sizeof where)) { perror("connect"); return 2; }
    int size = 0;
    const char *keys[] = {"InitiatorName=iqn.2026-11.internal.tests:kernel", "SessionType=Normal", "HeaderDigest=CRC32C",
        "DataDigest=CRC32C", "InitialR2T=No", "ImmediateData=Yes", "MaxBurstLength=262144", "FirstBurstLength=65536",
        "MaxRecvDataSegmentLength=131072", "MaxOutstandingR2T=1", "ErrorRecoveryLevel=0", "MaxConnections=1"};
    size += sprintf(text, "TargetName=%s", words[3]) + 1;
    for (unsigned at = 0; at < sizeof keys / sizeof *keys; at++) size += sprintf(text + size, "%s", keys[at]) + 1;
    unsigned char head[48] = {0x43, 0x87, 0, 0, 0, size >> 16, size >> 8, size, 0x40, 0, 0, 0, 0, 1};
    head[19] = 1; head[27] = 1;
    write(link, head, 48);
    write(link, text, (size + 3) / 4 * 4);
    get(link, head, 48);
    if (head[0] != 0x23 || head[36]) { printf("initiate: refused, %02x%02x\n", head[36], head[37]); return 3; }
    size = head[5] << 16 | head[6] << 8 | head[7];
    get(link, text, (size + 3) / 4 * 4);
    uint32_t number; char shown[16];
    memcpy(&number, head + 24, 4);
    snprintf(shown, sizeof shown, "%u", ntohl(number) + 1);

    struct event session = {.type = CREATE_SESSION}, connection = {.type = CREATE_CONN}, bound = {.type = BIND_CONN};
    session.session.number = 1; session.session.commands = 32; session.session.depth = 32;
    if (tell(&session, 0)) return 5;
    find();
    connection.ids[0] = bound.bind.session = session_number;
    bound.bind.socket = link; bound.bind.first = 1;
    if (tell(&connection, 0) || tell(&bound, 0)) return 6;
#define SAID(key, otherwise) value_of(text, size, key, otherwise)
    set(0, "131072");
    set(1, SAID("MaxRecvDataSegmentLength", "8192"));
    set(2, bit(SAID("HeaderDigest", "None")));
    set(3, bit(SAID("DataDigest", "None")));
    set(4, bit(SAID("InitialR2T", "Yes")));
    set(5, SAID("MaxOutstandingR2T", "1"));
    set(6, bit(SAID("ImmediateData", "Yes")));
    set(7, SAID("FirstBurstLength", "65536"));
    set(8, SAID("MaxBurstLength", "262144"));
    set(9, "1"); set(10, "1");
    set(11, SAID("ErrorRecoveryLevel", "0"));
    set(14, shown);
    set(15, words[3]);
    set(16, SAID("TargetPortalGroupTag", "1"));
    struct event start = {.type = START_CONN};
    start.ids[0] = session_number;
    return tell(&start, 0) ? 7 : 0;
}
