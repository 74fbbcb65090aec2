"""From rules to a layout: who lies with whom, how much texture each gets, and what is asked of the packer."""
