<script setup lang="ts">
import { Plus } from 'lucide-vue-next'
import { useMe } from '../composables/useMe'

const { may } = useMe()
</script>

<template>
  <RouterLink v-if="may('collect')" to="/new" class="action"><Plus class="size-3.5" aria-hidden="true" />New take</RouterLink>
</template>
