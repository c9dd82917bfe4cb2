package option

import (
	"github.com/spf13/cobra"

	"entelon/core/calltree"
)

// ShapeFlags gives a command the flags that shape a tree.
func ShapeFlags(c *cobra.Command, shape *calltree.Shape) {
	c.Flags().StringVar(&shape.Fold, "fold", "", "\"runtime\" into its callers, or \"foreign\" code into the calls into it")
	c.Flags().StringVar(&shape.Group, "group", "", "begin with the thread, process or module")
	c.Flags().BoolVar(&shape.Merge, "merge", false, "show recursion as one")
	c.Flags().StringVar(&shape.Through, "through", "", "only what passes through the function `NAME`, from it on")
	_ = c.RegisterFlagCompletionFunc("fold", cobra.FixedCompletions([]string{"runtime", "foreign"}, cobra.ShellCompDirectiveNoFileComp))
	_ = c.RegisterFlagCompletionFunc("group", cobra.FixedCompletions([]string{"thread", "process", "module"}, cobra.ShellCompDirectiveNoFileComp))
}
