// The plots come with a library of their own, so they are fetched when there is something to
// draw. Here and not in a page: the router takes a component whose text holds such an import
// for a page that is to be fetched.

export const trend = () => import('./Trend.svelte');
export const historyChart = () => import('./HistoryChart.svelte');
