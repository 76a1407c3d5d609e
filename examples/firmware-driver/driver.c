/* A small driver for a Brisca W1: finds it, gives it a name and a rate, keeps both. `driver.py` does the same.
 *
 *     driver PORT NAME RATE
 *
 * Status 0: done; 1: the module refused something; 2: it does not answer.
 */
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

enum { DONE, REFUSED, SILENT };
enum { TRIES = 10, WAIT_MS = 400, SETTLES_MS = 200 };

static const struct { int rate; speed_t code; } RATES[] = {
    {9600, B9600}, {38400, B38400}, {57600, B57600}, {115200, B115200}, {230400, B230400}, {460800, B460800},
};

static int set_rate(int port, int rate)
{
    struct termios mode;
    for (size_t i = 0; i < sizeof RATES / sizeof *RATES; i++) {
        if (RATES[i].rate != rate || tcgetattr(port, &mode))
            continue;
        cfmakeraw(&mode);
        cfsetspeed(&mode, RATES[i].code);
        return tcsetattr(port, TCSADRAIN, &mode);
    }
    return -1;
}

/* Reads a line, without its end, in at most WAIT_MS a byte; its length, or -1. */
static int read_line(int port, char *line, int size)
{
    struct pollfd there = {port, POLLIN, 0};
    int length = 0;
    while (length < size - 1 && poll(&there, 1, WAIT_MS) > 0 && read(port, line + length, 1) == 1) {
        if (line[length] == '\n') {
            while (length && line[length - 1] == '\r')
                length--;
            line[length] = 0;
            return length;
        }
        length++;
    }
    return -1;
}

/* What the module told before its last OK. */
static char told[128];

/* Says a command until it is answered. */
static int ask(int port, const char *command, int tries)
{
    char line[128], said[128];
    int size = snprintf(said, sizeof said, "%s\r\n", command);
    while (tries--) {
        tcflush(port, TCIFLUSH);
        if (write(port, said, size) != size)
            return SILENT;
        while (read_line(port, line, sizeof line) >= 0) {
            if (!strcmp(line, "OK"))
                return DONE;
            if (!strncmp(line, "FAULT", 5)) {
                fprintf(stderr, "refused: %s: %s\n", command, line);
                return REFUSED;
            }
            if (*line && strcmp(line, command))
                strcpy(told, line);
        }
    }
    return SILENT;
}

/* Looks for the module at a rate. What it heard at another rate is garbage to it: an empty line ends that first. */
static int find(int port, int rate)
{
    char line[128];
    if (set_rate(port, rate) || write(port, "\r\n", 2) != 2)
        return SILENT;
    while (read_line(port, line, sizeof line) >= 0)
        ;
    return ask(port, "AT+WHO?", TRIES / 2);
}

static int set_up(int port, const char *name, int rate)
{
    char command[128];
    int done;
    if (find(port, 115200) != DONE && (done = find(port, rate)))
        return done;
    snprintf(command, sizeof command, "AT+NAME=\"%s\"", name);
    if ((done = ask(port, command, TRIES)))
        return done;
    snprintf(command, sizeof command, "AT+RATE=%d", rate);
    if ((done = ask(port, command, TRIES)))
        return done;
    set_rate(port, rate);
    /* What is between us and the module, such as a tap, needs a moment too. */
    poll(NULL, 0, SETTLES_MS);
    if ((done = ask(port, "AT+STORE", TRIES)) || (done = ask(port, "AT+NAME?", TRIES)))
        return done;
    /* What the line changed on its way was written, too. */
    snprintf(command, sizeof command, "+NAME \"%s\"", name);
    return strcmp(told, command) ? REFUSED : DONE;
}

int main(int count, char **words)
{
    int port = count == 4 ? open(words[1], O_RDWR | O_NOCTTY) : -1;
    int done = port < 0 ? SILENT : set_up(port, words[2], atoi(words[3]));
    if (done == SILENT)
        fprintf(stderr, "no answer\n");
    return done;
}
