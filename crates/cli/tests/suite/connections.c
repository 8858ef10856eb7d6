/* Writes down each attempt of a process to reach a host: names that it looks up, and addresses that it connects or sends to. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <dlfcn.h>
#include <fcntl.h>
#include <netdb.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

static void note(const char *what, const char *who) {
    const char *file = getenv("RECORD_CONNECTIONS");
    char line[512];
    int length = snprintf(line, sizeof line, "%s %s\n", what, who);
    int out = file ? open(file, O_WRONLY | O_CREAT | O_APPEND, 0600) : -1;
    if (out >= 0) {
        if (write(out, line, (size_t)length) < 0) abort();
        close(out);
    }
}

static void note_address(const char *what, const struct sockaddr *address) {
    char text[INET6_ADDRSTRLEN] = "?";
    if (address == NULL) return;
    if (address->sa_family == AF_INET)
        inet_ntop(AF_INET, &((const struct sockaddr_in *)address)->sin_addr, text, sizeof text);
    else if (address->sa_family == AF_INET6)
        inet_ntop(AF_INET6, &((const struct sockaddr_in6 *)address)->sin6_addr, text, sizeof text);
    else
        return;
    note(what, text);
}

int connect(int socket, const struct sockaddr *address, socklen_t length) {
    int (*real)(int, const struct sockaddr *, socklen_t) = dlsym(RTLD_NEXT, "connect");
    note_address("connect", address);
    return real(socket, address, length);
}

ssize_t sendto(int socket, const void *bytes, size_t count, int flags, const struct sockaddr *address, socklen_t length) {
    ssize_t (*real)(int, const void *, size_t, int, const struct sockaddr *, socklen_t) = dlsym(RTLD_NEXT, "sendto");
    note_address("sendto", address);
    return real(socket, bytes, count, flags, address, length);
}

int getaddrinfo(const char *node, const char *service, const struct addrinfo *hints, struct addrinfo **found) {
    int (*real)(const char *, const char *, const struct addrinfo *, struct addrinfo **) = dlsym(RTLD_NEXT, "getaddrinfo");
    note("resolve", node ? node : "?");
    return real(node, service, hints, found);
}
