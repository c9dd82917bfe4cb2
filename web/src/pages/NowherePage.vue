<template>
  <div class="p-8">
    <h1 class="text-[22px] font-medium">There is no such page</h1>
    <p class="mt-2 text-ink-2">The address may have been cut short. <RouterLink to="/takes" class="word">To the takes</RouterLink></p>
  </div>
</template>
