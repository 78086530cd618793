<script setup lang="ts">
import { personColour, personLetter } from '../source/people'

defineProps<{ name: string }>()
</script>

<template>
  <span class="badge" :style="{ background: personColour(name) }" aria-hidden="true">{{ personLetter(name) }}</span>
</template>

<style scoped>
.badge {
  display: inline-block;
  width: 19px;
  font-size: 12px;
  font-weight: 600;
  line-height: 19px;
  color: #fff;
  text-align: center;
  border-radius: 3px;
}
</style>
