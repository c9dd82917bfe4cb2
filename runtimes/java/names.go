// Package java knows how Java's methods are named and whose code they are, and how a
// running machine is asked to write down what it has compiled.
//
// It holds nothing; a machine is asked by the goroutine that wants to know.
package java

import (
	"strings"

	"entelon/core/profile"
)

// Package returns the package of a method's name such as
// "int shop.print.Page.turn(int)": what groups it.
func Package(name string) string {
	class := javaMethod(name)
	if i := strings.LastIndexByte(class, '.'); i > 0 {
		class = class[:i] // of the method
	}
	if i := strings.LastIndexByte(class, '.'); i > 0 {
		return class[:i]
	}
	return "[java]"
}

// javaMethod returns class and method without result and parameters.
func javaMethod(name string) string {
	name, _, _ = strings.Cut(name, "(")
	return name[strings.LastIndexByte(name, ' ')+1:]
}

// Name drops the result's type from a method's name: what it returns does
// not tell it from others.
func Name(name string) string {
	head, parameters, ok := strings.Cut(name, "(")
	if !ok || !strings.Contains(head, ".") {
		return name
	}
	return head[strings.LastIndexByte(head, ' ')+1:] + "(" + parameters
}

// KindOf tells whose code a method is.
func KindOf(name string) profile.ModuleKind {
	method := javaMethod(name)
	if !strings.Contains(name, "(") || !strings.Contains(method, ".") {
		return profile.KindRuntime // stubs and the interpreter
	}
	for _, p := range []string{"java.", "javax.", "jdk.", "sun.", "com.sun."} {
		if strings.HasPrefix(method, p) {
			return profile.KindRuntime
		}
	}
	return profile.KindOwn
}
