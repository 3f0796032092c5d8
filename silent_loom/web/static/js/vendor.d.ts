// Libraries that ship with the application, to the check of types: whatever they give is taken as it is.
declare const anything: any;
export = anything;
