"""From footage, marks and edits to shots: found, cut, limited, chosen, each with its tokens and its look."""
