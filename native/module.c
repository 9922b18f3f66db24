/* fiat._native: reads trees and changes objects as fiat.host.live does, by the same calls, without Python between them. */
#include "native.h"

static int add_type(PyObject *module, const char *name, PyObject *type)
{
    int failed = type == NULL ? -1 : PyModule_AddObjectRef(module, name, type);
    Py_XDECREF(type);
    return failed;
}

static int fill_module(PyObject *module)
{
    int failed = add_type(module, "Reading", reading_type(module));
    failed = failed ? failed : add_type(module, "Changer", changer_type(module));
    failed = failed ? failed : add_type(module, "Paths", paths_type(module));
    PyObject *names = failed ? NULL : PyTuple_New(ATTRIBUTES);
    for (int place = 0; names && place < ATTRIBUTES; place++) {
        PyObject *name = PyUnicode_FromString(ATTRIBUTE_NAMES[place]);
        if (name == NULL)
            Py_CLEAR(names);
        else
            PyTuple_SetItem(names, place, name);
    }
    if (names == NULL)
        return -1;
    failed = PyModule_AddObjectRef(module, "ATTRIBUTES", names);
    Py_DECREF(names);
    return failed;
}

static PyModuleDef_Slot slots[] = {{Py_mod_exec, fill_module}, {0, NULL}};

static struct PyModuleDef definition = {
    PyModuleDef_HEAD_INIT, "fiat._native", "Reads trees and changes objects by several threads, and lays out rows.", 0, NULL, slots,
    NULL, NULL, NULL,
};

PyMODINIT_FUNC PyInit__native(void)
{
    return PyModuleDef_Init(&definition);
}
