/* Rows of text about the entries of a tree, and the order of names. What a name that is not plain looks like, and where
 * names with other characters than ASCII stand, is left to Python. */
#include "native.h"

#include <stdlib.h>
#include <string.h>

enum quoting { VISIBLE, CSV, JSON }; /* as fiat.engine.laying has them */

struct paths {
    PyObject_HEAD
    Py_buffer names, starts, lengths, parent;
    size_t entries;
    enum quoting quoting;
    PyObject *unusual; /* gives the text of a name, or of a whole path, that is not plain */
};

struct text {
    char *bytes;
    size_t length, room;
};

static bool add(struct text *text, const char *bytes, size_t length)
{
    if (length == 0)
        return true;
    if (length > text->room - text->length) {
        size_t room = (text->length + length) * 2 + 4096;
        char *more = realloc(text->bytes, room);
        if (more == NULL) {
            PyErr_NoMemory();
            return false;
        }
        text->bytes = more;
        text->room = room;
    }
    memcpy(text->bytes + text->length, bytes, length);
    text->length += length;
    return true;
}

static bool is_plain(const char *bytes, size_t length, enum quoting quoting)
{
    for (size_t place = 0; place < length; place++) {
        unsigned char one = (unsigned char)bytes[place];
        if (one < ' ' || one > '~' || one == '\\' || (one == '"' && quoting != VISIBLE) || (one == ',' && quoting == CSV))
            return false;
    }
    return true;
}

/* --- names --- */

struct name {
    const char *bytes;
    size_t length;
};

/* The name of an entry; false with an exception where the columns do not go together. */
static bool name_of(const struct paths *paths, int64_t entry, struct name *name)
{
    if (entry < 0 || (size_t)entry >= paths->entries) {
        PyErr_SetString(PyExc_IndexError, "there is no such entry");
        return false;
    }
    uint64_t start = ((const uint64_t *)paths->starts.buf)[entry];
    uint16_t length = ((const uint16_t *)paths->lengths.buf)[entry];
    if (start > (uint64_t)paths->names.len || length > (uint64_t)paths->names.len - start) {
        PyErr_SetString(PyExc_IndexError, "a name ends after all of them");
        return false;
    }
    *name = (struct name){(const char *)paths->names.buf + start, length};
    return true;
}

static bool add_unusual(const struct paths *paths, struct text *text, const char *bytes, size_t length)
{
    PyObject *said = PyObject_CallFunction(paths->unusual, "N", bytes_of(bytes, length));
    Py_ssize_t size;
    const char *utf8 = said ? PyUnicode_AsUTF8AndSize(said, &size) : NULL;
    bool added = utf8 && add(text, utf8, (size_t)size);
    Py_XDECREF(said);
    return added;
}

/* A path is put together from what its directory looks like, which mostly is that of the row before. */
struct directory_text {
    struct text text; /* with a slash at its end; as it is written, but for CSV, where a whole path is quoted */
    int64_t entry;    /* -1 where there is none */
    bool plain;
};

/* Adds a name to what leads to it. */
static bool add_name(const struct paths *paths, struct directory_text *to, struct text *text, struct name name)
{
    bool plain = is_plain(name.bytes, name.length, paths->quoting);
    if (plain || paths->quoting == CSV) {
        to->plain &= plain;
        return add(text, name.bytes, name.length);
    }
    return add_unusual(paths, text, name.bytes, name.length);
}

static bool lead_to(const struct paths *paths, struct directory_text *to, int64_t entry, struct name top)
{
    int64_t chain[4096], *all = chain; /* more than a path that one call takes can have */
    size_t depth = 0, room = sizeof chain / sizeof *chain;
    const int32_t *parent = paths->parent.buf;
    to->text.length = 0;
    to->plain = true;
    to->entry = -1;
    bool good = top.length == 0 || add_name(paths, to, &to->text, top);
    for (int64_t one = entry; good && one > 0; one = parent[one]) {
        if ((size_t)one >= paths->entries || parent[one] >= one) { /* parents stand before what is in them */
            PyErr_SetString(PyExc_IndexError, "an entry is in none before it");
            good = false;
        } else if (depth == room) {
            int64_t *more = malloc(2 * room * sizeof *more);
            if (more == NULL) {
                PyErr_NoMemory();
                good = false;
                break;
            }
            memcpy(more, all, depth * sizeof *more);
            if (all != chain)
                free(all);
            all = more;
            room *= 2;
        }
        if (good)
            all[depth++] = one;
    }
    while (good && depth-- > 0) {
        struct name name;
        good = name_of(paths, all[depth], &name) && add_name(paths, to, &to->text, name) && add(&to->text, "/", 1);
    }
    if (all != chain)
        free(all);
    if (good)
        to->entry = entry;
    return good;
}

static bool add_path(const struct paths *paths, struct text *text, int64_t entry, struct directory_text *to,
                     struct name top, struct name alone)
{
    struct name name = alone;
    struct directory_text nowhere = {.plain = true};
    size_t begin = text->length;
    if (entry == 0) {
        if (!add_name(paths, &nowhere, text, name))
            return false;
    } else {
        if (!name_of(paths, entry, &name))
            return false;
        int64_t above = ((const int32_t *)paths->parent.buf)[entry];
        if ((to->entry != above || above < 0) && !lead_to(paths, to, above, top))
            return false;
        nowhere.plain = to->plain;
        if (!add(text, to->text.bytes, to->text.length) || !add_name(paths, &nowhere, text, name))
            return false;
    }
    if (paths->quoting != CSV || nowhere.plain)
        return true;
    struct text whole = {0};
    bool good = add(&whole, text->bytes + begin, text->length - begin);
    text->length = begin;
    good = good && add_unusual(paths, text, whole.bytes, whole.length);
    free(whole.bytes);
    return good;
}

/* --- rows --- */

enum kind { LITERAL, PATH, SHARED, NUMBER, NAMES, NUMBERS };

struct column {
    enum kind kind;
    PyObject *texts; /* borrowed: the list that rows choose from, or the text that all have */
    Py_buffer values;
    int large, positive; /* numbers that are near each other; that go up to 2^64 */
};

static void drop(struct column *columns, Py_ssize_t count)
{
    for (Py_ssize_t one = 0; one < count; one++)
        if (columns[one].values.obj != NULL)
            PyBuffer_Release(&columns[one].values);
    free(columns);
}

/* Takes a column: a text for all rows, None for the path, texts with the number of each row's, or a number for each. */
static bool take_column(PyObject *given, struct column *column, Py_ssize_t rows)
{
    PyObject *values = given;
    if (given == Py_None) {
        column->kind = PATH;
        return true;
    }
    if (PyUnicode_Check(given)) {
        column->kind = LITERAL;
        column->texts = given;
        return true;
    }
    column->kind = NUMBER;
    if (PyTuple_Check(given)) {
        if (!PyArg_ParseTuple(given, "OO", &column->texts, &values))
            return false;
        if (!PyList_Check(column->texts)) {
            PyErr_SetString(PyExc_TypeError, "rows choose from a list");
            return false;
        }
        column->kind = SHARED;
    }
    if (PyObject_GetBuffer(values, &column->values, PyBUF_SIMPLE) != 0)
        return false;
    if (column->values.len != rows * (Py_ssize_t)sizeof(int64_t)) {
        PyErr_SetString(PyExc_ValueError, "a column has one value for each row");
        return false;
    }
    return true;
}

static bool add_unicode(struct text *text, PyObject *said)
{
    Py_ssize_t size;
    const char *utf8 = PyUnicode_AsUTF8AndSize(said, &size);
    return utf8 && add(text, utf8, (size_t)size);
}

static bool add_positive(struct text *text, uint64_t value)
{
    char digits[24], *at = digits + sizeof digits;
    do
        *--at = (char)('0' + value % 10);
    while (value /= 10);
    return add(text, at, (size_t)(digits + sizeof digits - at));
}

static bool add_number(struct text *text, int64_t value)
{
    return value < 0 ? add(text, "-", 1) && add_positive(text, 0 - (uint64_t)value) : add_positive(text, (uint64_t)value);
}

/* --- directories, each with lists of what its entries have --- */

/* Takes a column: as a row has it, or () for the names, or a number for each entry, and whether these are large, and
 * none is less than 0. */
static bool take_list(PyObject *given, struct column *column, Py_ssize_t rows, Py_ssize_t entries)
{
    Py_ssize_t parts = PyTuple_Check(given) ? PyTuple_Size(given) : -1;
    if (parts == 0) {
        column->kind = NAMES;
        return true;
    }
    if (parts != 3)
        return take_column(given, column, rows);
    PyObject *values;
    column->kind = NUMBERS;
    if (!PyArg_ParseTuple(given, "Opp", &values, &column->large, &column->positive) ||
        PyObject_GetBuffer(values, &column->values, PyBUF_SIMPLE) != 0)
        return false;
    if (column->values.len != entries * (Py_ssize_t)sizeof(int64_t)) {
        PyErr_SetString(PyExc_ValueError, "a column has one value for each entry");
        return false;
    }
    return true;
}

static bool add_one_of(struct text *text, uint64_t value, bool positive)
{
    return positive ? add_positive(text, value) : add_number(text, (int64_t)value);
}

/* The one that all values are, or a list of them; of large ones how much more each is than the least. */
static bool add_numbers(struct text *text, const struct column *column, int64_t begin, int64_t end)
{
    const uint64_t *values = column->values.buf;
    uint64_t least = values[begin];
    bool alike = true;
    for (int64_t one = begin; one < end; one++) {
        alike &= values[one] == values[begin];
        if (column->positive ? values[one] < least : (int64_t)values[one] < (int64_t)least)
            least = values[one];
    }
    if (alike)
        return add_one_of(text, least, column->positive);
    bool good = !column->large || (add(text, "{\"from\": ", 9) && add_one_of(text, least, column->positive) &&
                                   add(text, ", \"plus\": ", 10));
    good = good && add(text, "[", 1);
    for (int64_t one = begin; good && one < end; one++)
        good = (one == begin || add(text, ", ", 2)) &&
               add_one_of(text, column->large ? values[one] - least : values[one], column->positive);
    return good && add(text, column->large ? "]}" : "]", column->large ? 2 : 1);
}

static bool add_names(const struct paths *paths, struct text *text, const int64_t *entries, int64_t begin, int64_t end)
{
    struct directory_text nowhere = {.plain = true};
    bool good = add(text, "[", 1);
    for (int64_t one = begin; good && one < end; one++) {
        struct name name;
        good = (one == begin || add(text, ", ", 2)) && add(text, "\"", 1) && name_of(paths, entries[one], &name) &&
               add_name(paths, &nowhere, text, name) && add(text, "\"", 1);
    }
    return good && add(text, "]", 1);
}

/* --- all columns of a row --- */

/* What the entries stand in that a row is about: some of those given, and none where it is about one object. */
struct groups {
    const int64_t *entries, *bounds;
    Py_ssize_t count; /* of entries */
};

static bool add_row(const struct paths *paths, struct text *text, int64_t entry, Py_ssize_t row,
                    const struct column *columns, Py_ssize_t count, struct directory_text *to,
                    const struct groups *groups, struct name top, struct name alone)
{
    for (Py_ssize_t one = 0; one < count; one++) {
        const struct column *column = &columns[one];
        bool good = false;
        int64_t value = column->kind == NUMBER || column->kind == SHARED ? ((const int64_t *)column->values.buf)[row] : 0;
        if (column->kind == PATH)
            good = add_path(paths, text, entry, to, top, alone);
        else if (column->kind == NUMBER)
            good = add_number(text, value);
        else if (column->kind == LITERAL)
            good = add_unicode(text, column->texts);
        else if (column->kind == NAMES)
            good = add_names(paths, text, groups->entries, groups->bounds[row], groups->bounds[row + 1]);
        else if (column->kind == NUMBERS)
            good = add_numbers(text, column, groups->bounds[row], groups->bounds[row + 1]);
        else {
            PyObject *chosen = PyList_GetItem(column->texts, (Py_ssize_t)value); /* borrowed */
            good = chosen && add_unicode(text, chosen);
        }
        if (!good)
            return false;
    }
    return true;
}

static bool add_rows(const struct paths *paths, struct text *text, const Py_buffer *places, PyObject *given,
                     const struct groups *groups, struct name top, struct name alone, bool strip)
{
    Py_ssize_t rows = places->len / (Py_ssize_t)sizeof(int64_t), count = PySequence_Size(given);
    struct column *columns = count < 0 ? NULL : calloc((size_t)count + 1, sizeof *columns);
    struct directory_text to = {.entry = -1};
    bool good = columns != NULL;
    if (!good && !PyErr_Occurred())
        PyErr_NoMemory();
    for (Py_ssize_t one = 0; good && one < count; one++) {
        PyObject *column = PySequence_GetItem(given, one); /* which the sequence keeps */
        good = column && (groups ? take_list(column, &columns[one], rows, groups->count)
                                 : take_column(column, &columns[one], rows));
        Py_XDECREF(column);
    }
    for (Py_ssize_t row = 0; good && row < rows; row++) {
        good = add_row(paths, text, ((const int64_t *)places->buf)[row], row, columns, count, &to, groups, top, alone);
        while (good && strip && text->length && text->bytes[text->length - 1] == ' ')
            text->length--;
        good = good && add(text, "\n", 1);
    }
    free(to.text.bytes);
    if (columns)
        drop(columns, count);
    return good;
}

static PyObject *as_unicode(struct text *text, bool good)
{
    PyObject *found = good ? PyUnicode_DecodeUTF8(text->length ? text->bytes : "", (Py_ssize_t)text->length, NULL) : NULL;
    free(text->bytes);
    return found;
}

static struct name name_in(PyObject *bytes)
{
    return (struct name){PyBytes_AsString(bytes), (size_t)PyBytes_Size(bytes)};
}

static PyObject *paths_rows(PyObject *self, PyObject *words)
{
    PyObject *given, *above, *alone;
    Py_buffer places;
    int strip;
    if (!PyArg_ParseTuple(words, "y*OSSp", &places, &given, &above, &alone, &strip))
        return NULL;
    struct text text = {0};
    bool good = add_rows((struct paths *)self, &text, &places, given, NULL, name_in(above), name_in(alone), strip);
    PyBuffer_Release(&places);
    return as_unicode(&text, good);
}

static PyObject *paths_lists(PyObject *self, PyObject *words)
{
    PyObject *given, *above, *alone;
    Py_buffer directories, entries, bounds;
    if (!PyArg_ParseTuple(words, "y*y*y*OSS", &directories, &entries, &bounds, &given, &above, &alone))
        return NULL;
    struct text text = {0};
    struct groups groups = {entries.buf, bounds.buf, entries.len / (Py_ssize_t)sizeof(int64_t)};
    Py_ssize_t count = directories.len / (Py_ssize_t)sizeof(int64_t);
    bool good = bounds.len == (count + 1) * (Py_ssize_t)sizeof(int64_t) && groups.bounds[0] >= 0 &&
                groups.bounds[count] <= groups.count;
    for (Py_ssize_t one = 0; good && one < count; one++)
        good = groups.bounds[one] < groups.bounds[one + 1];
    if (!good)
        PyErr_SetString(PyExc_IndexError, "each directory has entries");
    good = good && add_rows((struct paths *)self, &text, &directories, given, &groups, name_in(above), name_in(alone), false);
    PyBuffer_Release(&directories);
    PyBuffer_Release(&entries);
    PyBuffer_Release(&bounds);
    return as_unicode(&text, good);
}

/* --- the order of names --- */

static bool is_digit(char one)
{
    return one >= '0' && one <= '9';
}

static int lower(char one)
{
    return one >= 'A' && one <= 'Z' ? one - 'A' + 'a' : (unsigned char)one;
}

/* Numbers stand before all else, the shorter first, without the zeros that they begin with; see
 * fiat.core.tree.natural. Names that are the same but for that go by their bytes. */
static int compare_names(struct name one, struct name other)
{
    size_t left = 0, right = 0;
    while (left < one.length && right < other.length) {
        bool number = is_digit(one.bytes[left]);
        if (number != is_digit(other.bytes[right]))
            return number ? -1 : 1;
        if (!number) {
            int difference = lower(one.bytes[left++]) - lower(other.bytes[right++]);
            if (difference)
                return difference;
            continue;
        }
        while (left < one.length && one.bytes[left] == '0')
            left++;
        while (right < other.length && other.bytes[right] == '0')
            right++;
        size_t here = left, there = right;
        while (left < one.length && is_digit(one.bytes[left]))
            left++;
        while (right < other.length && is_digit(other.bytes[right]))
            right++;
        if (left - here != right - there)
            return left - here < right - there ? -1 : 1;
        int difference = memcmp(one.bytes + here, other.bytes + there, left - here);
        if (difference)
            return difference;
    }
    if (left < one.length || right < other.length)
        return left < one.length ? 1 : -1;
    size_t least = one.length < other.length ? one.length : other.length;
    int difference = memcmp(one.bytes, other.bytes, least);
    return difference ? difference : (one.length > other.length) - (one.length < other.length);
}

struct named {
    struct name name;
    int64_t entry;
};

static int compare_named(const void *one, const void *other)
{
    return compare_names(((const struct named *)one)->name, ((const struct named *)other)->name);
}

/* Sorts the entries of one directory; 1 where they stood otherwise, -1 where that is for Python, -2 with an exception. */
static int sort_some(const struct paths *paths, int64_t *entries, size_t count, struct named *named)
{
    bool sorted = true;
    for (size_t one = 0; one < count; one++) {
        if (!name_of(paths, entries[one], &named[one].name))
            return -2;
        named[one].entry = entries[one];
        for (size_t place = 0; place < named[one].name.length; place++)
            if (named[one].name.bytes[place] & 0x80)
                return -1;
        sorted = sorted && (one == 0 || compare_named(&named[one - 1], &named[one]) <= 0);
    }
    if (sorted)
        return 0;
    qsort(named, count, sizeof *named, compare_named);
    for (size_t one = 0; one < count; one++)
        entries[one] = named[one].entry;
    return 1;
}

static PyObject *paths_sort(PyObject *self, PyObject *words)
{
    struct paths *paths = (struct paths *)self;
    PyObject *given;
    Py_buffer entries, bounds = {0};
    if (!PyArg_ParseTuple(words, "Oy*", &given, &bounds))
        return NULL;
    if (PyObject_GetBuffer(given, &entries, PyBUF_WRITABLE) != 0) {
        PyBuffer_Release(&bounds);
        return NULL;
    }
    const int64_t *bound = bounds.buf;
    size_t groups = (size_t)bounds.len / sizeof *bound, most = (size_t)entries.len / sizeof(int64_t), largest = 0;
    bool good = true, changed = false;
    for (size_t one = 0; good && one + 1 < groups; one++) {
        good = bound[one] >= 0 && bound[one] <= bound[one + 1] && (uint64_t)bound[one + 1] <= most;
        if (good && (size_t)(bound[one + 1] - bound[one]) > largest)
            largest = (size_t)(bound[one + 1] - bound[one]);
    }
    if (!good)
        PyErr_SetString(PyExc_IndexError, "a directory ends after all entries");
    struct named *named = good ? malloc((largest + 1) * sizeof *named) : NULL;
    if (good && named == NULL) {
        PyErr_NoMemory();
        good = false;
    }
    PyObject *left = good ? PyList_New(0) : NULL;
    for (size_t one = 0; left && one + 1 < groups; one++) {
        int done = sort_some(paths, (int64_t *)entries.buf + bound[one], (size_t)(bound[one + 1] - bound[one]), named);
        changed |= done == 1;
        PyObject *number = done == -1 ? PyLong_FromSize_t(one) : NULL;
        if (done == -2 || (done == -1 && (number == NULL || PyList_Append(left, number) != 0)))
            Py_CLEAR(left);
        Py_XDECREF(number);
    }
    free(named);
    PyBuffer_Release(&entries);
    PyBuffer_Release(&bounds);
    return left ? Py_BuildValue("(NN)", PyBool_FromLong(changed), left) : NULL;
}

/* --- the type --- */

static void release(Py_buffer *buffer)
{
    if (buffer->obj != NULL)
        PyBuffer_Release(buffer);
}

static void paths_free(PyObject *self)
{
    struct paths *paths = (struct paths *)self;
    PyTypeObject *type = Py_TYPE(self);
    release(&paths->names);
    release(&paths->starts);
    release(&paths->lengths);
    release(&paths->parent);
    Py_XDECREF(paths->unusual);
    freefunc free_type = (freefunc)PyType_GetSlot(type, Py_tp_free);
    free_type(self);
    Py_DECREF(type);
}

static PyObject *paths_new(PyTypeObject *type, PyObject *words, PyObject *Py_UNUSED(named))
{
    allocfunc allocate = (allocfunc)PyType_GetSlot(type, Py_tp_alloc);
    struct paths *paths = (struct paths *)allocate(type, 0);
    if (paths == NULL)
        return NULL;
    int quoting;
    PyObject *unusual;
    if (PyArg_ParseTuple(words, "y*y*y*y*iO", &paths->names, &paths->starts, &paths->lengths, &paths->parent, &quoting,
                         &unusual)) {
        Py_INCREF(unusual);
        paths->unusual = unusual;
        paths->quoting = quoting == CSV ? CSV : quoting == JSON ? JSON : VISIBLE;
        paths->entries = (size_t)paths->parent.len / sizeof(int32_t);
        if ((size_t)paths->starts.len / sizeof(uint64_t) == paths->entries &&
            (size_t)paths->lengths.len / sizeof(uint16_t) == paths->entries)
            return (PyObject *)paths;
        PyErr_SetString(PyExc_ValueError, "each entry has a name and a parent");
    }
    Py_DECREF(paths);
    return NULL;
}

static PyMethodDef methods[] = {
    {"rows", paths_rows, METH_VARARGS, "A row for each of the entries, each with the end of a line."},
    {"lists", paths_lists, METH_VARARGS, "A line for each of the directories, with lists of what its entries have."},
    {"sort", paths_sort, METH_VARARGS, "Sort the entries of each directory; whether that changed something, and which "
                                       "directories are left."},
    {NULL, NULL, 0, NULL},
};

static PyType_Slot slots[] = {
    {Py_tp_new, paths_new},
    {Py_tp_dealloc, paths_free},
    {Py_tp_methods, methods},
    {Py_tp_doc, "The paths of a tree, as rows about them have them."},
    {0, NULL},
};

static PyType_Spec spec = {"fiat._native.Paths", sizeof(struct paths), 0, Py_TPFLAGS_DEFAULT, slots};

PyObject *paths_type(PyObject *module)
{
    return PyType_FromModuleAndSpec(module, &spec, NULL);
}
