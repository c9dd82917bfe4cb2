// The native part of partbook: finds keys, and spells pitches in a key.
#define PY_SSIZE_T_CLEAN
#include <Python.h>
#include <math.h>

static const char *const names[] = {"c", "cis", "d", "es", "e", "f", "fis", "g", "as", "a", "b", "h"};

// strain tells how far a pitch is from a key's circle of fifths.
__attribute__((noinline)) static double strain(int pitch, double key) {
	double at = fmod(pitch * 7.0, 12.0);
	double away = fabs(at - key);
	return away > 6 ? 12 - away : away;
}

// search finds the key in which a scale that was shifted strains least.
__attribute__((noinline)) static double search(int shift) {
	double best = 0, least = 1e9;
	for (int k = 0; k < 48; k++) {
		double key = k / 4.0, sum = 0;
		for (int step = 0; step < 7; step++) sum += strain(step * 2 - step / 3 + shift, key);
		if (sum < least) least = sum, best = key;
	}
	return best;
}

static PyObject *key(PyObject *self, PyObject *args) {
	int shift;
	if (!PyArg_ParseTuple(args, "i", &shift)) return NULL;
	return PyFloat_FromDouble(search(shift));
}

__attribute__((noinline)) static const char *nearest(int pitch, double key) {
	double best = 1e9;
	int name = 0;
	for (int i = -3; i <= 3; i++) {
		double s = strain(pitch + 12 * i, key) + i * i;
		if (s < best) best = s, name = ((pitch % 12) + 12) % 12;
	}
	return names[name];
}

static PyObject *spell(PyObject *self, PyObject *args) {
	Py_buffer pitches;
	double key;
	if (!PyArg_ParseTuple(args, "y*d", &pitches, &key)) return NULL;
	PyObject *out = PyList_New(pitches.len);
	for (Py_ssize_t i = 0; out && i < pitches.len; i++) {
		PyObject *name = PyUnicode_FromString(nearest(((unsigned char *)pitches.buf)[i], key));
		if (!name) {
			Py_CLEAR(out);
			break;
		}
		PyList_SET_ITEM(out, i, name);
	}
	PyBuffer_Release(&pitches);
	return out;
}

static PyMethodDef methods[] = {
	{"key", key, METH_VARARGS, "The key in which a shifted scale is easiest to read."},
	{"spell", spell, METH_VARARGS, "The names of pitches in a key."},
	{NULL, NULL, 0, NULL},
};

static struct PyModuleDef module = {PyModuleDef_HEAD_INIT, "pitchwork", NULL, -1, methods, NULL, NULL, NULL, NULL};

PyMODINIT_FUNC PyInit_pitchwork(void) { return PyModule_Create(&module); }
