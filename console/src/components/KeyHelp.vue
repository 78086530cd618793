<template>
  <dl aria-label="Keys">
    <div><dt>j k</dt><dd>next, previous line of this call</dd></div>
    <div><dt>l L</dt><dd>into a call, back into one</dd></div>
    <div><dt>h H</dt><dd>out of this call, back out of it</dd></div>
    <div><dt>n p</dt><dd>next, previous hit of any enabled checkpoint</dd></div>
    <div><dt>u d</dt><dd>caller, callee</dd></div>
    <div><dt>m</dt><dd>set or remove a checkpoint here</dd></div>
    <div><dt>w</dt><dd>why: where a value came from</dd></div>
    <div><dt>/</dt><dd>search all recorded values</dd></div>
    <div><dt>g</dt><dd>go to a moment</dd></div>
    <div><dt>?</dt><dd>these keys</dd></div>
  </dl>
</template>

<style scoped>
dl {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 26px;
  margin: 0;
  padding: 8px 14px;
  background: var(--fog-0);
  border-bottom: 1px solid var(--fog-3);
}
div {
  display: flex;
  gap: 8px;
}
dt {
  font-family: var(--mono);
  font-weight: 600;
}
dd {
  margin: 0;
}
</style>
