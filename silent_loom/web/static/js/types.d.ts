// What the check of types (tsc, in `make lint`) cannot know by itself. No page loads this file.

interface Window {
  switchTheme: () => void;
}

// Elements are found by ids and classes of our own templates: what kind each one is stands there
interface ParentNode {
  querySelector(selectors: string): any;
  querySelectorAll(selectors: string): NodeListOf<any>;
}
interface Document {
  getElementById(id: string): any;
}
interface EventTarget {
  value: any;
  checked: any;
  files: any;
  readonly dataset: DOMStringMap;
  closest(selectors: string): any;
}
interface Element {
  click(): void;
}
