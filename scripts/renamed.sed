s/\\npath( ?= ?"[^"]*\.h")/\\noutput\1/g
s/writes ?= ?\[/output = [/g
s/step:writes/step:output/g
s/(\\n|^)to ?= ?"/\1output = "/g
s/(\\n|^)interface ?= ?"/\1abi = "/g
s/(\\n|^)boards ?= ?\[/\1more = [/g
s/section-of-all/default-section/g
