/* The kernel's own call to make a device of parts of others (linux/dm-ioctl.h): map NAME < table, whose lines are
   "first-sector sectors kind parameters"; it says the path of the device. `map NAME gone` ends it, as a guest does that
   shuts down: the driver then writes down what it still knows by itself. */
#include <fcntl.h>
#include <linux/dm-ioctl.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
static char data[1 << 16];
static struct dm_ioctl *head = (struct dm_ioctl *)data;
static int call(int control, char *name, unsigned long what) {
    head->version[0] = 4; head->data_size = sizeof data; head->data_start = sizeof *head; head->flags = 0;
    strcpy(head->name, name);
    return ioctl(control, what, data);
}
int main(int count, char **words) {
    int control = open("/dev/mapper/control", O_RDWR);
    memset(data, 0, sizeof data);
    if (count > 2) {
        if (call(control, words[1], DM_DEV_REMOVE)) { perror("remove"); return 5; }
        return 0;
    }
    if (call(control, words[1], DM_DEV_CREATE)) { perror("create"); return 1; }
    unsigned long long device = head->dev;
    memset(data, 0, sizeof data);
    char line[4096], *at = data + sizeof *head;
    while (fgets(line, sizeof line, stdin)) {
        struct dm_target_spec *spec = (struct dm_target_spec *)at;
        char rest[4096];
        unsigned long long start, length;
        if (sscanf(line, "%llu %llu %15s %[^\n]", &start, &length, spec->target_type, rest) != 4) return 2;
        spec->sector_start = start; spec->length = length;
        strcpy(at + sizeof *spec, rest);
        spec->next = (sizeof *spec + strlen(rest) + 8) / 8 * 8;
        at += spec->next; head->target_count++;
    }
    unsigned targets = head->target_count;
    head->target_count = targets;
    if (call(control, words[1], DM_TABLE_LOAD)) { perror("load"); return 3; }
    memset(data, 0, sizeof data);
    if (call(control, words[1], DM_DEV_SUSPEND)) { perror("resume"); return 4; }
    char path[64];
    sprintf(path, "/dev/map-%s", words[1]);
    mknod(path, S_IFBLK | 0600, makedev((device >> 8) & 0xfff, (device & 0xff) | ((device >> 12) & 0xfff00)));
    puts(path);
    return 0;
}
