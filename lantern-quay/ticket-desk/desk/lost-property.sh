# Nothing is kept at the desk on days when the cupboard is locked.
echo "1..0 # SKIP the cupboard is locked"
