// Bars that show how much is done.

/** The content policy allows no style attribute: shares are set from here. */
export const showShares = (root) => {
  for (const bar of root.querySelectorAll('[data-share]')) bar.style.width = `${bar.dataset.share}%`;
};
