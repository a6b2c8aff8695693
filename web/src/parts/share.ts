/** ShareText says what part of the flows a tunnel takes, such as "3 of 4 parts". */
export function shareText(share: { weight: number; whole: number }): string {
  return `${share.weight} of ${share.whole} parts`;
}
