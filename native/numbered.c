/* Bytes that are numbered in the order in which they are first met. */
#include "native.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <time.h>
#include <unistd.h>

/* Whoever may set attributes must not be able to choose bytes that come to stand in one place: the factors are secret. */
static uint64_t secret[2];

static void choose_secret(void)
{
    if (getrandom(secret, sizeof secret, GRND_NONBLOCK) != (ssize_t)sizeof secret) {
        struct timespec now;
        clock_gettime(CLOCK_REALTIME, &now);
        secret[0] = (uint64_t)now.tv_nsec * 0x9E3779B97F4A7C15u ^ (uint64_t)getpid();
        secret[1] = (uint64_t)now.tv_sec * 0xC2B2AE3D27D4EB4Fu ^ (uintptr_t)&now;
    }
    secret[0] |= 1;
}

static uint64_t mixed(uint64_t hash, uint64_t word)
{
    unsigned __int128 product = (unsigned __int128)(hash ^ word ^ secret[1]) * secret[0];
    return (uint64_t)product ^ (uint64_t)(product >> 64);
}

static uint64_t hash_of(const char *bytes, size_t length)
{
    static pthread_once_t once = PTHREAD_ONCE_INIT;
    pthread_once(&once, choose_secret);
    uint64_t hash = length, word = 0;
    for (; length >= 8; bytes += 8, length -= 8) {
        memcpy(&word, bytes, 8);
        hash = mixed(hash, word);
    }
    word = 0;
    memcpy(&word, bytes, length);
    return mixed(mixed(hash, word), 0x9E3779B97F4A7C15u);
}

bool grown(void *array, size_t *room, size_t count, size_t size)
{
    if (count < *room)
        return true;
    size_t more = count + count / 2 + 64;
    void *moved = realloc(*(void **)array, more * size);
    if (moved == NULL)
        return false;
    *(void **)array = moved;
    *room = more;
    return true;
}

static bool with_more_slots(struct numbered *table)
{
    size_t room = table->room ? table->room * 2 : 256;
    uint32_t *slots = calloc(room, sizeof *slots);
    if (slots == NULL)
        return false;
    for (size_t number = 0; number < table->count; number++) {
        size_t place = table->keys[number].hash & (room - 1);
        while (slots[place])
            place = (place + 1) & (room - 1);
        slots[place] = (uint32_t)number + 1;
    }
    free(table->slots);
    table->slots = slots;
    table->room = room;
    return true;
}

const char *numbered_bytes(const struct numbered *table, size_t number)
{
    return table->arena + table->keys[number].at;
}

/* The slot of these bytes, or the empty one where they would stand. */
static size_t slot_of(const struct numbered *table, const void *bytes, uint32_t length, uint64_t hash)
{
    size_t place = hash & (table->room - 1);
    for (; table->slots[place]; place = (place + 1) & (table->room - 1)) {
        const struct key *key = &table->keys[table->slots[place] - 1];
        if (key->hash == hash && key->length == length && memcmp(table->arena + key->at, bytes, length) == 0)
            break;
    }
    return place;
}

int64_t numbered_find(const struct numbered *table, const void *bytes, uint32_t length)
{
    return table->room ? (int64_t)table->slots[slot_of(table, bytes, length, hash_of(bytes, length))] - 1 : -1;
}

int64_t numbered_number(struct numbered *table, const void *bytes, uint32_t length)
{
    if (table->count * 2 >= table->room && !with_more_slots(table))
        return -1;
    uint64_t hash = hash_of(bytes, length);
    size_t place = slot_of(table, bytes, length, hash);
    if (table->slots[place])
        return (int64_t)table->slots[place] - 1;
    if (!grown(&table->keys, &table->keys_room, table->count, sizeof *table->keys))
        return -1;
    if (table->used + length >= table->arena_room) {
        size_t more = (table->used + length) * 3 / 2 + 4096;
        char *moved = realloc(table->arena, more);
        if (moved == NULL)
            return -1;
        table->arena = moved;
        table->arena_room = more;
    }
    memcpy(table->arena + table->used, bytes, length);
    table->keys[table->count] = (struct key){hash, table->used, length};
    table->used += length;
    table->slots[place] = (uint32_t)++table->count;
    return (int64_t)table->count - 1;
}

void numbered_free(struct numbered *table)
{
    free(table->slots);
    free(table->keys);
    free(table->arena);
    *table = (struct numbered){0};
}
