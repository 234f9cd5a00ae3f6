/* The kernel's own call to enlarge a mounted ext4 (fs/ext4/ioctl.c), which no shell can make: grow FOLDER BLOCKS */
#include <fcntl.h>
#include <linux/ioctl.h>
#include <stdlib.h>
#include <sys/ioctl.h>
int main(int count, char **words) {
    unsigned long long blocks = strtoull(words[2], 0, 10);
    return ioctl(open(words[1], O_RDONLY), _IOW('f', 16, unsigned long long), &blocks) ? 1 : 0;
}
